"""Writes a history: a picture, a report in any form, or all hours as a table for programs."""

import io
from collections.abc import Sequence
from pathlib import Path

from dunmist.advice import HistoryReport
from dunmist.errors import OutputError
from dunmist.harmless import harmless
from dunmist.history import Period
from dunmist.output import write_whole
from dunmist.reports.months import history_document
from dunmist.reports.writing import FORMATS

PICTURES, TABLES = (".png", ".svg"), (".csv", ".parquet")


def write_history(
    report: HistoryReport, periods: Sequence[Period], path: Path, *, force: bool = False
) -> None:
    """Write a history in the form that the ending names; raises OutputError."""
    ending = path.suffix.lower()
    if ending in PICTURES:
        from dunmist.reports.pictures import draw_months, save_picture

        save_picture(draw_months(report), path, force=force)
    elif ending in FORMATS:
        made = FORMATS[ending](history_document(report))
        write_whole(path, made.encode() if isinstance(made, str) else made, force=force)
    elif ending in TABLES:
        write_whole(path, _table(periods, ending), force=force)
    else:
        known = ", ".join((*PICTURES, *TABLES, *FORMATS))
        raise OutputError(f"{path}: unknown file ending; use {known}")


def _table(periods: Sequence[Period], ending: str) -> bytes:
    """Return a row for each program of each period."""
    import pandas as pd

    frame = pd.DataFrame(
        [
            {
                "began_s": period.began_s,
                "length_s": period.length_s,
                "utc_offset_s": period.offset_s,
                "recorded_s": period.sampled_s,
                "program": harmless(name),
                "cpu_s": each.cpu_s,
                "memory_mean_bytes": each.memory_byte_s / each.memory_s if each.memory_s else None,
                "memory_peak_bytes": each.memory_peak_bytes,
                "disk_bytes": each.disk_bytes,
                "network_bytes": each.network_bytes,
                "energy_j": each.energy_j,
            }
            for period in periods
            for name, each in sorted(period.applications.items())
        ]
    )
    if ending == ".csv":
        return frame.to_csv(index=False).encode()
    written = io.BytesIO()
    try:
        frame.to_parquet(written, index=False)
    except ImportError as error:
        raise OutputError("Parquet needs an extra: pip install 'dunmist[parquet]'") from error
    return written.getvalue()
