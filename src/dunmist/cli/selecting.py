"""Select the rows and columns of a table: filters, sorting, limits."""

import math
from collections.abc import Callable, Mapping
from fnmatch import fnmatch
from typing import NamedTuple

import click

from dunmist.cli.column_words import columns_of
from dunmist.tables import Filled, Filter

DAY_S = 86_400.0


class Selection(NamedTuple):
    """Requested rows; ``filters`` by the name of their option, the others as typed."""

    filters: Mapping[Filter, str]
    sort: str | None = None
    bottom: bool = False
    limit: int | None = None


def _has_word(cell: str, wanted: str) -> bool:
    return wanted in cell.split()


def _is_word(cell: str, wanted: str) -> bool:
    return fnmatch(cell.lower(), wanted.lower())


def _fits_name(cell: str, wanted: str) -> bool:
    cell, wanted = cell.lower(), wanted.lower()
    return fnmatch(cell, wanted) if any(mark in wanted for mark in "*?[") else wanted in cell


def _fits_unit(cell: str, wanted: str) -> bool:
    return any(fnmatch(unit, wanted) or fnmatch(unit, f"{wanted}.*") for unit in cell.split())


def _reaches(cell: str, wanted: str) -> bool:
    return bool(cell) and float(cell) >= float(wanted)


def _is_within_days(cell: str, wanted: str) -> bool:
    return bool(cell) and float(cell) <= DAY_S * float(wanted)


# option, and how a cell is compared; which columns it looks at is declared with them
FILTERS: Mapping[Filter, Callable[[str, str], bool]] = {
    "owner": _has_word,
    "name": _fits_name,
    "pid": _has_word,
    "service": _fits_unit,
    "port": _has_word,
    "state": _is_word,
    "role": _has_word,
    "least": _reaches,
    "days": _is_within_days,
}


def select(tables: list[Filled], wanted: Selection) -> list[Filled]:
    """Return the tables with what was asked for; raises UsageError for what none of them has."""
    for option, value in wanted.filters.items():
        tables = _filtered(tables, option, value)
    if wanted.sort:
        tables = _sorted(tables, wanted.sort)
    if wanted.limit:
        tables = [table.with_rows(table.rows[: wanted.limit]) for table in tables]
    if wanted.bottom:
        tables = [table.with_rows(table.rows[::-1]) for table in tables]
    return tables


def _filtered(tables: list[Filled], option: Filter, value: str) -> list[Filled]:
    fits = FILTERS[option]
    kept = []
    for table in tables:
        columns = [column.name for column in table.table.columns if option in column.answers]
        if columns:
            chosen = [
                row
                for row in table.rows
                if any(fits(_text(row[column]), value) for column in columns)
            ]
            kept.append(table.with_rows(chosen))
    if not kept:
        raise click.UsageError(
            f"--{option} does not apply to this topic: none of its tables has such a column"
        )
    return kept


def _sorted(tables: list[Filled], keys: str) -> list[Filled]:
    """Return the tables that have all these columns, sorted by them."""
    words, upwards = [], []
    for key in keys.split(","):
        word, _, direction = key.strip().partition(":")
        if direction not in ("", "up", "down"):
            raise click.UsageError(f"'{key}' sorts neither up nor down; write {word}:up")
        words.append(word)
        upwards.append(direction)
    meant = columns_of(tables, words)
    in_order = []
    for table in tables:
        names = meant[table.table.name]
        if len(names) == len(words):
            up = [_is_up(table, name, way) for name, way in zip(names, upwards, strict=True)]
            in_order.append(table.in_order(names, up))
    if not in_order:
        raise click.UsageError(f"no table of this topic has all of '{keys}'; sort by one of them")
    return in_order


def _is_up(filled: Filled, name: str, direction: str) -> bool:
    # figures are wanted greatest first, names from A on
    return direction == "up" or (direction == "" and not filled.table.column(name).is_numeric)


def _text(cell: object) -> str:
    if cell is None or (isinstance(cell, float) and math.isnan(cell)):
        return ""
    return str(int(cell)) if isinstance(cell, float) and cell.is_integer() else str(cell)
