"""The tables of a history, made of what is summed, and what a figure in them can be."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import fields
from itertools import chain
from math import isfinite
from typing import Any, NamedTuple

from dunmist.computer import Machine
from dunmist.history.sums import (
    DAY_S,
    HOUR_S,
    ApplicationSum,
    DiskSum,
    HeatSum,
    Period,
    ResourceSum,
    Sum,
    packed,
    unpacked,
)

# of SQLite's header: what tells this file from those of other programs, and its schema
APPLICATION_ID, SCHEMA = 0x44754D69, 2
# statements that turn the schema of a version into that of the next
MIGRATIONS = {1: "ALTER TABLE name ADD COLUMN since_s REAL NOT NULL DEFAULT 0"}
# a history that somebody gave may hold anything: what cannot be is refused
LATEST_S, GREATEST, PERIODS_MOST, PROGRAMS_MOST = 100_000_000_000, 1e24, 20_000, 2000
# of the header of a database file: version of the schema, and whose file it is
HEADER_BYTES, HEADER_PLACES = 100, (60, 68)
PERIOD_COLUMNS = (
    "began_s",
    "length_s",
    "offset_s",
    "sampled_s",
    "clock_set",
    "cpus",
    "memory_bytes",
)
KINDS: tuple[tuple[str, type[Sum]], ...] = (
    ("application", ApplicationSum),
    ("resource", ResourceSum),
    ("disk", DiskSum),
    ("heat", HeatSum),
)
TABLES = """
CREATE TABLE about (what TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE name (id INTEGER PRIMARY KEY, text TEXT NOT NULL UNIQUE, since_s REAL NOT NULL);
CREATE TABLE period (
    id INTEGER PRIMARY KEY, began_s INTEGER NOT NULL, length_s INTEGER NOT NULL,
    offset_s INTEGER NOT NULL, sampled_s REAL NOT NULL, clock_set INTEGER NOT NULL,
    cpus INTEGER NOT NULL, memory_bytes INTEGER NOT NULL, UNIQUE (began_s, length_s));
CREATE TABLE level (
    period INTEGER NOT NULL, what TEXT NOT NULL, name INTEGER NOT NULL, value REAL NOT NULL,
    whole REAL NOT NULL, PRIMARY KEY (period, what, name)) WITHOUT ROWID;
CREATE TABLE event (
    at_s INTEGER NOT NULL, what TEXT NOT NULL, name TEXT NOT NULL, value REAL,
    PRIMARY KEY (at_s, what, name)) WITHOUT ROWID;
CREATE TABLE added (
    identity TEXT PRIMARY KEY, began_s REAL NOT NULL, ended_s REAL NOT NULL) WITHOUT ROWID;
"""


class Identity(NamedTuple):
    """Identity of a computer: its name, and its hardware."""

    host: str
    model: str
    cpus: int

    @property
    def text(self) -> str:
        """The identity as it is stored."""
        return f"{self.host}\n{self.model}\n{self.cpus}"


def identity_of(machine: Machine) -> Identity:
    """Return the identity of a computer."""
    return Identity(machine.host or "", machine.model or "", len(machine.processors))


def columns_of() -> dict[str, frozenset[str]]:
    """Return the tables of a history with their columns."""
    plain = {
        "about": ("what", "value"),
        "name": ("id", "text", "since_s"),
        "period": ("id", *PERIOD_COLUMNS),
        "level": ("period", "what", "name", "value", "whole"),
        "event": ("at_s", "what", "name", "value"),
    }
    sums = {kind: ("period", "name", *(each.name for each in fields(of))) for kind, of in KINDS}
    return {table: frozenset(columns) for table, columns in (plain | sums).items()}


def checked(periods: Sequence[Period]) -> list[Period]:
    """Return periods that can be; raises ValueError where one cannot be.

    ``sums_of`` looks at their sums.
    """
    if len(periods) > PERIODS_MOST:
        raise ValueError("it has more hours than are kept")
    for period in periods:
        is_time = 0 <= period.began_s < LATEST_S and abs(period.offset_s) <= DAY_S
        if not is_time or period.length_s not in (HOUR_S, DAY_S):
            raise ValueError("it has an hour that cannot be")
        if len(period.applications) > PROGRAMS_MOST:
            raise ValueError("it has more programs than are kept")
        figures = [period.sampled_s]
        figures += [part for level in period.levels.values() for part in level[2:]]
        if not all(0 <= figure < GREATEST for figure in figures):
            raise ValueError("it has a figure that cannot be")
    return list(periods)


def declared_table(kind: str, of: type[Sum]) -> str:
    """Return the statement that makes the table of one kind of sum."""
    columns = ", ".join(
        f"{each.name} {'BLOB' if each.name.endswith('_bins') else 'REAL'} NOT NULL"
        for each in fields(of)
    )
    return (
        f"CREATE TABLE {kind} (period INTEGER NOT NULL, name INTEGER NOT NULL, {columns}, "
        "PRIMARY KEY (period, name)) WITHOUT ROWID"
    )


def values_of(each: Sum) -> Iterator[float | bytes]:
    """Yield the columns of a sum as they are stored."""
    for column in fields(each):
        value: Any = getattr(each, column.name)
        yield packed(value) if isinstance(value, list) else value


def sums_of(
    of: type[Sum], rows: Iterable[Sequence[Any]], *, is_given: bool
) -> Iterator[tuple[int, int, Sum]]:
    """Yield the period, the name and the sum of each row; raises ValueError and TypeError.

    Of what somebody gave each figure has to be one that can be.
    """
    packs = [index for index, each in enumerate(fields(of)) if each.name.endswith("_bins")]
    # only degrees may be negative
    least = -GREATEST if of is HeatSum else 0.0
    for period, name, *values in rows:
        figures = values
        if packs:
            for index in packs:
                values[index] = unpacked(values[index])
            parts = (value if isinstance(value, list) else (value,) for value in values)
            figures = [*chain.from_iterable(parts)]
        if not {float} >= set(map(type, figures)):
            raise TypeError("it has a figure that is no number")
        # NaN is neither the least nor the greatest, but makes every sum NaN
        is_possible = least <= min(figures) and max(figures) < GREATEST and isfinite(sum(figures))
        if is_given and not is_possible:
            raise ValueError("it has a figure that cannot be")
        yield period, name, of(*values)


def put_sum(period: Period, name: str, read: Sum) -> None:
    """Put a sum that was read into its period."""
    if isinstance(read, ApplicationSum):
        period.applications[name] = read
    elif isinstance(read, ResourceSum):
        period.resources[name] = read
    elif isinstance(read, DiskSum):
        period.disks[name] = read
    else:
        period.heat = read
