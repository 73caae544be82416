"""What a table declares: its columns with name, unit, heading and meaning, and who sees which.

Programs get every column; a terminal gets those of ``shown``, in that order, as many as it has room
for. Everything that shows, filters, sorts, completes or documents a table reads it from here.
"""

import sys
from collections.abc import Callable, Iterable, Mapping
from datetime import UTC, tzinfo
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

from dunmist.advice import Judged

if TYPE_CHECKING:
    import pandas as pd

Unit = Literal[
    "text",
    "flag",
    "number",
    "figure",
    "cores",
    "share",
    "bytes",
    "bytes/s",
    "bits/s",
    "a second",
    "Hz",
    "MT/s",
    "s",
    "at",
    "moment",
    "curve",
    "curve of shares",
    "fact",
]
Filter = Literal["owner", "name", "pid", "service", "port", "state", "role", "least", "days"]
Row = dict[str, object]

# what a name says of its unit, which a heading leaves out because the cells say it
SUFFIXES: Mapping[Unit, str] = {
    "bytes": "_bytes",
    "bytes/s": "_bytes_per_s",
    "bits/s": "_bits_per_s",
    "Hz": "_hz",
    "MT/s": "_mtps",
    "s": "_s",
    "moment": "_s",
    "at": "_s",
}
TEXTS: frozenset[Unit] = frozenset(("text", "flag", "fact"))
CURVES: frozenset[Unit] = frozenset(("curve", "curve of shares"))
# points of a tiny curve in a cell
CURVE_POINTS = 12
# characters of a column of text in a narrow and in a wide window
WIDTH_LEAST, WIDTH_MOST = 14, 36


class Width(NamedTuple):
    """Characters of a text on a terminal: it gives way down to the one, and never has more."""

    least: int = WIDTH_LEAST
    most: int = WIDTH_MOST


class Column(NamedTuple):
    """One column."""

    name: str
    unit: Unit
    meaning: str
    width: Width | None = None  # for a text that may be shortened
    answers: tuple[Filter, ...] = ()  # filters that look at it
    title: str | None = None  # its heading, where its name will not do

    @property
    def heading(self) -> str:
        """What stands above it; what the unit says stands in the cells."""
        if self.title is not None:
            return self.title
        if self.unit in CURVES:
            return "over time"
        name = self.name.removesuffix(SUFFIXES.get(self.unit, ""))
        return name.replace("_per_s", " a second").replace("_", " ")

    @property
    def is_numeric(self) -> bool:
        """Whether it holds figures, which are set to the right."""
        return self.unit not in TEXTS and self.unit not in CURVES


class Table(NamedTuple):
    """One table."""

    name: str
    about: str
    columns: tuple[Column, ...]
    rows: Callable[[Judged], Iterable[Row]]  # makes them of what was judged
    shown: tuple[str, ...] = ()  # columns of the plain view; empty for all of them
    order: tuple[str, ...] = ()  # columns that sort it, greatest first
    units: Mapping[str, Unit] | None = None  # of each fact of a table of facts
    program_key: str | None = None  # what programs call it, where that is not its name

    def column(self, name: str) -> Column:
        """Return a column by its name; raises KeyError."""
        by_name = {column.name: column for column in self.columns}
        return by_name[name]

    @property
    def names(self) -> list[str]:
        """The names of all columns, in the order in which programs get them."""
        return [column.name for column in self.columns]

    @property
    def key(self) -> str:
        """What programs call it."""
        return self.program_key or self.name.replace(" ", "_")

    def unit_of(self, column: Column, row: Mapping[str, Any]) -> Unit:
        """Return the unit of a cell: that of its column, in a table of facts that of the fact."""
        if column.unit == "fact" and self.units is not None:
            return self.units[str(row["fact"])]
        return column.unit

    def shown_columns(self) -> list[Column]:
        """Return the columns that people compare, the most important first."""
        return [self.column(name) for name in self.shown or self.names]


class Filled(NamedTuple):
    """A table with its rows."""

    table: Table
    frame: "pd.DataFrame"
    zone: tzinfo = UTC  # of the patient, in which moments are written

    def with_rows(self, frame: "pd.DataFrame") -> "Filled":
        """Return the same table with other rows."""
        return self._replace(frame=frame)


def fill(table: Table, judged: Judged) -> Filled:
    """Return a table filled with what was judged."""
    return filled(table, table.rows(judged), zone_of(judged))


def zone_of(judged: Judged) -> tzinfo:
    """Return the time zone of the patient."""
    return judged.series.zone


def load_pandas() -> None:
    """Import pandas without what it loads for Arrow where that is installed.

    It is 41 MiB and a fifth of the time that pandas takes, and no table here has a use for it.
    """
    if "pandas" in sys.modules or "pyarrow" in sys.modules:
        return
    sys.modules["pyarrow"] = None  # type: ignore[assignment]  # Python's way to say it is not there
    import pandas  # noqa: F401 - what is imported first decides

    # who writes Parquet imports it by itself
    del sys.modules["pyarrow"]


def filled(table: Table, rows: Iterable[Row], zone: tzinfo = UTC) -> Filled:
    """Return a table with the given rows, in its own order; unknown comes last."""
    load_pandas()
    import pandas as pd

    frame = pd.DataFrame(list(rows), columns=table.names)
    if table.units is not None:
        frame = frame.astype(object)
    if len(frame) and table.order:
        frame = frame.sort_values(
            list(table.order), ascending=False, ignore_index=True, kind="stable", na_position="last"
        )
    return Filled(table, frame, zone)


def records(filled: Filled) -> list[dict[str, Any]]:
    """Return the rows as mappings from the columns' names."""
    return [
        {str(name): value for name, value in row.items()}
        for row in filled.frame.to_dict(orient="records")
    ]
