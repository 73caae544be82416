"""Writes a capture's figures in the form that the ending of a name asks for, whole or not."""

from collections.abc import Callable, Mapping
from pathlib import Path

from dunmist.advice import Judged
from dunmist.errors import OutputError
from dunmist.exports.long_table import SERIES, csv_of, long_table, parquet_bytes, view_tables
from dunmist.exports.open_metrics import open_metrics_text
from dunmist.exports.otlp import otlp_text
from dunmist.exports.otlp_http import send
from dunmist.exports.points import metrics_of, resource_attributes
from dunmist.output import check_output, write_whole


def _otlp(judged: Judged) -> str:
    return otlp_text(resource_attributes(judged.series), metrics_of(judged))


def _open_metrics(judged: Judged) -> str:
    return open_metrics_text(resource_attributes(judged.series), metrics_of(judged))


def _csv(judged: Judged) -> str:
    return csv_of(long_table(metrics_of(judged)))


def _parquet(judged: Judged) -> bytes:
    return parquet_bytes(long_table(metrics_of(judged)))


PARQUET = ".parquet"
FORMS: Mapping[str, Callable[[Judged], str | bytes]] = {
    ".otlp.json": _otlp,
    ".om": _open_metrics,
    ".csv": _csv,
    PARQUET: _parquet,
}
ENDINGS = tuple(FORMS)


def ending_of(path: Path) -> str:
    """Return the ending that chooses the form; raises OutputError for none of them."""
    for ending in ENDINGS:
        if path.name.lower().endswith(ending):
            return ending
    raise OutputError(f"{path}: unknown file ending; use {', '.join(ENDINGS)}")


def export_capture(judged: Judged, path: Path, *, force: bool = False) -> list[Path]:
    """Write the figures and return where they are.

    A folder gets every table of the views and the long table of points as Parquet. Raises
    OutputError, and leaves nothing half-written.
    """
    if path.is_dir():
        return _into_folder(judged, path, force=force)
    ending = ending_of(path)
    check_output(path, force=force)
    made = FORMS[ending](judged)
    write_whole(path, made if isinstance(made, bytes) else made.encode(), force=force)
    return [path]


def _into_folder(judged: Judged, folder: Path, *, force: bool) -> list[Path]:
    tables = {SERIES: long_table(metrics_of(judged)), **view_tables(judged)}
    tables_by_path = {folder / f"{name}{PARQUET}": table for name, table in tables.items()}
    for path in tables_by_path:
        check_output(path, force=force)
    for path, table in tables_by_path.items():
        write_whole(path, parquet_bytes(table), force=force)
    return list(tables_by_path)


def send_capture(judged: Judged, address: str) -> None:
    """Send the figures to a receiver of OTLP over HTTP; raises OutputError."""
    send(address, _otlp(judged))
