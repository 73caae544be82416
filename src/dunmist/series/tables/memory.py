"""Topic ``memory``: where the installed memory is."""

import pandas as pd

from dunmist.series.load import Series
from dunmist.series.memory_breakdown import memory_breakdown


def memory_table(series: Series) -> pd.DataFrame:
    """Return the parts of the installed memory at the end of the capture; they add up to it."""
    total = float(series.machine.memory_bytes("MemTotal")[-1])
    rows = [
        {
            "part": part,
            "bytes": float(held[-1]),
            "share": float(held[-1]) / total,
            "change_bytes": float(held[-1] - held[0]),
        }
        for part, held in memory_breakdown(series.machine).items()
    ]
    rows.append({"part": "installed", "bytes": total, "share": 1.0, "change_bytes": 0.0})
    return pd.DataFrame(rows)
