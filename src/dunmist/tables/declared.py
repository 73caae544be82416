"""Declare tables: columns with name, unit, heading and meaning, and which of them are shown.

A table has records; a column says what its cell is of a record, which is made when somebody reads
it. Programs get every column; a terminal gets those of ``shown``, in that order, as many as it has
room for. Everything that shows, filters, sorts, completes or documents a table reads it from here.
"""

import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import UTC, tzinfo
from numbers import Real
from typing import Any, Generic, Literal, NamedTuple, TypeVar

from dunmist.advice import Judged

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
R = TypeVar("R")  # the record of a table
R2 = TypeVar("R2")

# suffix of a name that says its unit; headings leave it out because the cells say it
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


class Column(NamedTuple, Generic[R]):
    """One column; without a value of its own its cell is the record's attribute of its name."""

    name: str
    unit: Unit
    meaning: str
    value: Callable[[R], object] | None = None  # makes its cell of a record, None for unknown
    width: Width | None = None  # for a text that may be shortened
    answers: tuple[Filter, ...] = ()  # filters that look at it
    title: str | None = None  # its heading, where its name will not do

    def of(self, value: "Callable[[R2], object]") -> "Column[R2]":
        """Return the same column of a table whose records have no such attribute."""
        return Column(*self[:3], value, *self[4:])

    def cell(self, record: R) -> object:
        """Return its value of a record."""
        if self.value is not None:
            return self.value(record)
        return getattr(record, self.name)

    @property
    def heading(self) -> str:
        """Heading of the column; its unit decides what the cells show."""
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


class Row(Mapping[str, Any]):
    """The cells of one record, by the names of the columns; each is made once."""

    __slots__ = ("_columns", "_made", "_record")

    def __init__(self, columns: Mapping[str, Column[Any]], record: object) -> None:
        self._columns, self._record = columns, record
        self._made: dict[str, Any] = {}

    def __getitem__(self, name: str) -> Any:  # noqa: ANN401  # as the unit of the column says
        if name not in self._made:
            self._made[name] = self._columns[name].cell(self._record)
        return self._made[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._columns)

    def __len__(self) -> int:
        return len(self._columns)


class Table(NamedTuple, Generic[R]):
    """One table."""

    name: str
    about: str
    columns: tuple[Column[R], ...]
    records: Callable[[Judged], Iterable[R]]  # makes them of what was judged
    shown: tuple[str, ...] = ()  # columns of the plain view; empty for all of them
    order: tuple[str, ...] = ()  # columns that sort it, greatest first
    units: Mapping[str, Unit] | None = None  # of each fact of a table of facts
    program_key: str | None = None  # its key in JSON, if that is not its name

    @property
    def by_name(self) -> dict[str, Column[R]]:
        """The columns by their names."""
        return {column.name: column for column in self.columns}

    def column(self, name: str) -> Column[R]:
        """Return a column by its name; raises KeyError."""
        return self.by_name[name]

    @property
    def names(self) -> list[str]:
        """The names of all columns, in the order in which programs get them."""
        return [column.name for column in self.columns]

    @property
    def key(self) -> str:
        """Its name for programs."""
        return self.program_key or self.name.replace(" ", "_")

    def unit_of(self, column: Column[R], row: Mapping[str, Any]) -> Unit:
        """Return the unit of a cell: that of its column, in a table of facts that of the fact."""
        if column.unit == "fact" and self.units is not None:
            return self.units[str(row["fact"])]
        return column.unit

    def shown_columns(self) -> list[Column[R]]:
        """Return the columns that people compare, the most important first."""
        return [self.column(name) for name in self.shown or self.names]


class Filled(NamedTuple):
    """A table with its rows."""

    table: Table[Any]
    rows: list[Row]
    zone: tzinfo = UTC  # of the patient, in which timestamps are written

    def with_rows(self, rows: list[Row]) -> "Filled":
        """Return the same table with other rows."""
        return self._replace(rows=rows)

    def cells(self, name: str) -> list[Any]:
        """Return the values of one column, from the first row to the last."""
        return [row[name] for row in self.rows]

    def has_figures(self, name: str) -> bool:
        """Whether any row knows something of a column."""
        return not all(is_unknown(row[name]) for row in self.rows)

    def in_order(self, names: Iterable[str], upwards: Iterable[bool]) -> "Filled":
        """Return it sorted by columns, the first of them first; what is unknown comes last."""
        rows = list(self.rows)
        for name, up in reversed(list(zip(names, upwards, strict=True))):
            known = [row for row in rows if not is_unknown(row[name])]
            unknown = [row for row in rows if is_unknown(row[name])]
            known.sort(key=lambda row: _sort_key(row[name]), reverse=not up)
            rows = [*known, *unknown]
        return self.with_rows(rows)


def fill(table: Table[R], judged: Judged) -> Filled:
    """Return a table filled with what was judged."""
    return filled(table, table.records(judged), zone_of(judged))


def filled(table: Table[R], records: Iterable[R], zone: tzinfo = UTC) -> Filled:
    """Return a table with the given records, in its own order."""
    columns = table.by_name
    made = Filled(table, [Row(columns, record) for record in records], zone)
    return made.in_order(table.order, [False] * len(table.order))


def zone_of(judged: Judged) -> tzinfo:
    """Return the time zone of the patient."""
    return judged.series.zone


def is_unknown(cell: object) -> bool:
    """Whether a cell has nothing to say."""
    return cell is None or (isinstance(cell, float) and math.isnan(cell))


def _sort_key(cell: object) -> tuple[int, float, str]:
    """Return the sort key of a known cell: figures before texts, a curve by its mean."""
    if isinstance(cell, Real):
        return 0, float(cell), ""
    if isinstance(cell, list):
        figures = [point for point in cell if isinstance(point, Real)]
        return 0, math.fsum(figures) / max(len(figures), 1), ""
    return 1, 0.0, str(cell)
