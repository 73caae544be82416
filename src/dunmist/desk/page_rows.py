"""Select and sort the rows of a page: pure functions, without the screen's library."""

from collections.abc import Sequence
from typing import NamedTuple

import msgspec

from dunmist.desk.judgement import PageColumn, PageRow, PageTable
from dunmist.harmless import harmless
from dunmist.recorder import LiveApplication, LiveProcess, Now
from dunmist.sparklines import curve_text

MIB = float(1 << 20)
# before a process that stands below its application
PART = "  └ "
# columns that say whose something is
OWNERS = ("owner", "user", "users")
# marks of the curve of a live application
CURVE_MARKS = 24


class Arrangement(NamedTuple):
    """Sorting, filters and columns of a table."""

    sort: str | None = None  # a column's name; None as it came
    ascending: bool = False
    words: str = ""  # each must stand somewhere in a row
    owner: str = ""  # required owner
    columns: frozenset[str] | None = None  # those that are shown; None for the usual ones
    unfolded: frozenset[str] = frozenset()  # keys of applications whose processes are shown
    is_exact: bool = False  # figures in base units, as programs get them


def shown_columns(table: PageTable, wanted: Arrangement) -> list[int]:
    """Return the indices of the columns that are shown."""
    return [
        index
        for index, column in enumerate(table.columns)
        if column.name == wanted.sort or is_shown(column, wanted)
    ]


def is_shown(column: PageColumn, wanted: Arrangement) -> bool:
    """Whether a column is one of those that somebody wants to see."""
    return column.is_usual if wanted.columns is None else column.name in wanted.columns


def cells_of(table: PageTable, row: PageRow, wanted: Arrangement) -> list[str]:
    """Return all cells of a row as they are shown."""
    if not wanted.is_exact:
        return row.texts
    return [
        _exact(value) if column.unit and isinstance(value, float) else text
        for column, value, text in zip(table.columns, row.values, row.texts, strict=True)
    ]


def _exact(value: float) -> str:
    return f"{value:.0f}" if value.is_integer() else f"{value:.6g}"


def heading_of(column: PageColumn, wanted: Arrangement) -> str:
    """Return the heading of a column: its unit, if the cells do not say it, and the order."""
    heading = column.heading
    if wanted.is_exact and column.unit and column.unit not in heading.split():
        heading = f"{heading} ({column.unit})"
    if column.name != wanted.sort:
        return heading
    return f"{heading} {'↑' if wanted.ascending else '↓'}"


def owner_of(table: PageTable, row: PageRow) -> str | None:
    """Return the owner of a row; None if its table does not have it."""
    indices = [index for index, column in enumerate(table.columns) if column.name in OWNERS]
    return row.texts[indices[0]] if indices else None


def arranged(table: PageTable, wanted: Arrangement) -> list[PageRow]:
    """Return the rows that are left, in the order that is wanted; unknown comes last."""
    words = wanted.words.lower().split()
    rows = [
        row
        for row in table.rows
        if _has(row, words) and (not wanted.owner or owner_of(table, row) == wanted.owner)
    ]
    names = [column.name for column in table.columns]
    index = names.index(wanted.sort) if wanted.sort in names else None
    rows = _sorted(rows, index, ascending=wanted.ascending)
    return [
        shown
        for row in rows
        for shown in (row, *(_parts(row, index, wanted) if row.key in wanted.unfolded else ()))
    ]


def _sorted(rows: list[PageRow], index: int | None, *, ascending: bool) -> list[PageRow]:
    if index is None:
        return rows
    known = [row for row in rows if row.values[index] is not None]
    known.sort(key=lambda row: _order(row.values[index]), reverse=not ascending)
    return known + [row for row in rows if row.values[index] is None]


def _parts(row: PageRow, index: int | None, wanted: Arrangement) -> list[PageRow]:
    """Return the processes of an application, in the order of the table, each set in."""
    return [
        msgspec.structs.replace(
            part, key=f"{row.key}/{part.key}", texts=[f"{PART}{part.texts[0]}", *part.texts[1:]]
        )
        for part in _sorted(row.parts, index, ascending=wanted.ascending)
    ]


def _order(value: float | str | None) -> tuple[int, float, str]:
    return (0, value, "") if isinstance(value, float) else (1, 0.0, str(value).lower())


def _has(row: PageRow, words: Sequence[str]) -> bool:
    text = " ".join(row.texts).lower()
    return all(word in text for word in words)


def _figure(name: str, heading: str, meaning: str, unit: str) -> PageColumn:
    return PageColumn(name, heading, meaning, is_numeric=True, is_usual=True, unit=unit)


LIVE_COLUMNS = (
    PageColumn("application", "application", "what runs", is_numeric=False, is_usual=True),
    _figure("cores", "cores", "CPUs that it uses now", "cores"),
    _figure("memory_bytes", "memory", "memory of its own", "bytes"),
    _figure("disk_bytes_per_s", "disk", "to and from disks", "bytes/s"),
    _figure("network_bytes_per_s", "network", "over TCP", "bytes/s"),
    _figure("processes", "processes", "how many", "processes"),
    PageColumn("owner", "owner", "whose it is", is_numeric=False, is_usual=True),
    PageColumn("cores_over_time", "over time", "cores", is_numeric=False, is_usual=True),
)


def live_table(now: Now) -> PageTable:
    """Return the present usage of every application."""
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
        parts=[_live_part(part) for part in taken.processes],
    )


def _live_part(part: LiveProcess) -> PageRow:
    """Return one process: what it moves over disk and network is known of the whole alone."""
    return PageRow(
        key=str(part.pid),
        values=[
            str(part.pid),
            part.cores,
            float(part.memory_bytes),
            None,
            None,
            None,
            part.user,
            None,
        ],
        texts=[
            str(part.pid),
            f"{part.cores:.2f}",
            f"{part.memory_bytes / MIB:,.0f} MiB",
            *("", "", ""),
            harmless(part.user),
            "",
        ],
        pid=part.pid,
    )
