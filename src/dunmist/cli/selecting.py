"""Which rows and columns of a table are wanted: filters, sorting, limits. Works on frames."""

from collections.abc import Callable
from difflib import get_close_matches
from fnmatch import fnmatch
from typing import NamedTuple

import click
import pandas as pd


class Wanted(NamedTuple):
    """What was asked for; ``filters`` by the name of their option, the others as typed."""

    filters: dict[str, str]
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


# option, the columns it looks at (one that fits is enough), and how a cell is compared
FILTERS: dict[str, tuple[tuple[str, ...], Callable[[str, str], bool]]] = {
    "owner": (("user", "users", "login_user"), _has_word),
    "name": (("program", "application", "programs", "family", "executable", "name", "sensor",
              "disk", "link", "unit", "names"), _fits_name),
    "pid": (("pid", "pids"), _has_word),
    "service": (("unit", "name"), _fits_unit),
    "port": (("port", "ports"), _has_word),
    "state": (("state", "level"), _is_word),
    "role": (("role",), _has_word),
    "least": (("cores_mean", "busy_mean", "used_share"), lambda cell, wanted: False),
}  # fmt: skip


def select(frames: dict[str, pd.DataFrame], wanted: Wanted) -> dict[str, pd.DataFrame]:
    """Return the tables with what was asked for; raises UsageError for what none of them has."""
    for option, value in wanted.filters.items():
        frames = _filtered(frames, option, value)
    if wanted.sort:
        frames = _sorted(frames, wanted.sort)
    if wanted.limit:
        frames = {name: frame.head(wanted.limit) for name, frame in frames.items()}
    if wanted.bottom:
        frames = {name: frame.iloc[::-1] for name, frame in frames.items()}
    return frames


def check_columns(frames: dict[str, pd.DataFrame], names: list[str]) -> None:
    """Raise UsageError when a column is in none of the tables."""
    known = {str(column) for frame in frames.values() for column in frame.columns}
    for name in names:
        if name not in known:
            near = get_close_matches(name, known, n=1)
            hint = f"did you mean '{near[0]}'?" if near else "see --columns help"
            raise click.UsageError(f"there is no column '{name}'; {hint}")


def _filtered(frames: dict[str, pd.DataFrame], option: str, value: str) -> dict[str, pd.DataFrame]:
    columns, fits = FILTERS[option]
    kept = {}
    for name, frame in frames.items():
        there = [column for column in columns if column in frame.columns]
        if not there:
            continue
        if option == "least":
            kept[name] = frame[pd.to_numeric(frame[there[0]]) >= float(value)]
        else:
            chosen = [
                any(fits(_text(cell), value) for cell in cells)
                for cells in frame[there].itertuples(index=False)
            ]
            kept[name] = frame[chosen]
    if not kept:
        raise click.UsageError(
            f"--{option} does not apply to this topic; its tables have none of: "
            f"{', '.join(columns)}"
        )
    return kept


def _sorted(frames: dict[str, pd.DataFrame], keys: str) -> dict[str, pd.DataFrame]:
    names, upwards = [], []
    for key in keys.split(","):
        name, _, direction = key.strip().partition(":")
        if direction not in ("", "up", "down"):
            raise click.UsageError(f"'{key}' sorts neither up nor down; write {name}:up")
        names.append(name)
        upwards.append(direction)
    check_columns(frames, names)
    return {
        table: frame.sort_values(
            names,
            ascending=[_is_up(frame, name, way) for name, way in zip(names, upwards, strict=True)],
            kind="stable",
            na_position="last",
        )
        if set(names) <= set(frame.columns)
        else frame
        for table, frame in frames.items()
    }


def _is_up(frame: pd.DataFrame, name: str, direction: str) -> bool:
    # figures are wanted greatest first, names from A on
    return direction == "up" or (direction == "" and not pd.api.types.is_numeric_dtype(frame[name]))


def _text(cell: object) -> str:
    if cell is None or cell is pd.NA or (isinstance(cell, float) and pd.isna(cell)):
        return ""
    return str(int(cell)) if isinstance(cell, float) and cell.is_integer() else str(cell)
