"""Which rows of a page are shown, in which order: pure functions, without the screen's library."""

from collections.abc import Sequence
from typing import NamedTuple

from dunmist.desk.judgement import PageColumn, PageRow, PageTable
from dunmist.harmless import harmless
from dunmist.recorder import LiveApplication, Now
from dunmist.sparklines import curve_text

MIB = float(1 << 20)
# marks of the curve of a live application
CURVE_MARKS = 24


class Arrangement(NamedTuple):
    """How somebody wants a table: sorted, filtered, with which columns."""

    sort: str | None = None  # a column's name; None as it came
    ascending: bool = False
    words: str = ""  # each must stand somewhere in a row
    all_columns: bool = False


def shown_columns(table: PageTable, wanted: Arrangement) -> list[int]:
    """Return the places of the columns that are shown."""
    return [
        place
        for place, column in enumerate(table.columns)
        if wanted.all_columns or column.is_usual or column.name == wanted.sort
    ]


def arranged(table: PageTable, wanted: Arrangement) -> list[PageRow]:
    """Return the rows that are left, in the order that is wanted; unknown comes last."""
    words = wanted.words.lower().split()
    rows = [row for row in table.rows if _has(row, words)]
    names = [column.name for column in table.columns]
    if wanted.sort not in names:
        return rows
    place = names.index(wanted.sort)
    known = [row for row in rows if row.values[place] is not None]
    known.sort(key=lambda row: _order(row.values[place]), reverse=not wanted.ascending)
    return known + [row for row in rows if row.values[place] is None]


def _order(value: float | str | None) -> tuple[int, float, str]:
    return (0, value, "") if isinstance(value, float) else (1, 0.0, str(value).lower())


def _has(row: PageRow, words: Sequence[str]) -> bool:
    text = " ".join(row.texts).lower()
    return all(word in text for word in words)


LIVE_COLUMNS = (
    PageColumn("application", "application", "what runs", is_numeric=False, is_usual=True),
    PageColumn("cores", "cores", "CPUs that it uses now", is_numeric=True, is_usual=True),
    PageColumn("memory_bytes", "memory", "memory of its own", is_numeric=True, is_usual=True),
    PageColumn("disk_bytes_per_s", "disk", "to and from disks", is_numeric=True, is_usual=True),
    PageColumn("network_bytes_per_s", "network", "over TCP", is_numeric=True, is_usual=True),
    PageColumn("processes", "processes", "how many", is_numeric=True, is_usual=True),
    PageColumn("owner", "owner", "whose it is", is_numeric=False, is_usual=True),
    PageColumn("cores_over_time", "over time", "cores", is_numeric=False, is_usual=True),
)


def live_table(now: Now) -> PageTable:
    """Return what every application takes at this moment."""
    rows = [_live_row(number, taken) for number, taken in now.applications.items()]
    rows.sort(key=lambda row: -float(row.values[1] or 0.0))
    about = "what each takes now; sampling itself is left out"
    return PageTable("applications now", about, list(LIVE_COLUMNS), rows)


def _live_row(number: int, taken: LiveApplication) -> PageRow:
    busiest = max(taken.processes, key=lambda part: part.cores, default=None)
    owner = busiest.user if busiest else ""
    history = list(taken.history)[-CURVE_MARKS:]
    return PageRow(
        key=str(number),
        values=[
            taken.name,
            taken.cores,
            float(taken.memory_bytes),
            taken.disk_bytes_per_s,
            taken.network_bytes_per_s,
            float(len(taken.processes)),
            owner,
            None,
        ],
        texts=[
            harmless(taken.name),
            f"{taken.cores:.2f}",
            f"{taken.memory_bytes / MIB:,.0f} MiB",
            f"{taken.disk_bytes_per_s / MIB:.1f} MiB/s",
            f"{taken.network_bytes_per_s / MIB:.1f} MiB/s",
            str(len(taken.processes)),
            harmless(owner),
            curve_text(history, max(1.0, *history) if history else 1.0).rjust(CURVE_MARKS),
        ],
        pid=busiest.pid if busiest else None,
        name=taken.name,
    )
