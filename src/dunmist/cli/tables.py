"""Frames as text: a table for a terminal, JSON and CSV for programs."""

import json
import textwrap
from collections.abc import Iterator
from typing import Any

import pandas as pd
from rich.console import RenderableType
from rich.table import Table
from rich.text import Text

from dunmist.cli.strips import curve_text, span_curve_text
from dunmist.harmless import cut_middle, harmless_cell
from dunmist.reports.columns import SHOWN, cell_text, heading_text, plain

TEXT_WIDTH = 36
LEAST_TEXT_WIDTH = 14
# where the indentation says something, or the name is what people look for, more has to stay
LEAST_WIDTHS = {"family": 36, "application": 24}
GAP = 2
KEPT = 2
# from this width on nothing is cut
WIDE_FROM = 1000
# what may be longer than other texts, and all that may be made shorter
TEXTS_MOST = {"remark": 84, "about": 44, "command": 60, "command_line": 60, "source": 44,
              "group": 70, "names": 70, "value": 90}  # fmt: skip
FLEXIBLE = frozenset(
    ("application", "program", "programs", "family", "users", "unit", "name", "names", "sensor",
     "remark", "about", "command", "command_line", "source", "group", "file", "value", "remote",
     "model", "mounted_on", "busiest_application", "waits_in", "unknown_owner")
)  # fmt: skip


def frames_object(frames: dict[str, pd.DataFrame]) -> dict[str, Any]:
    """Return a list of rows for each table; what is unknown is None."""
    return {
        name.replace(" ", "_"): [
            {str(column): plain(value) for column, value in row.items()}
            for row in frame.to_dict(orient="records")
        ]
        for name, frame in frames.items()
    }


def json_text(frames: dict[str, pd.DataFrame]) -> str:
    """Return an object with a list of rows for each table; what is unknown is null."""
    return json.dumps(frames_object(frames), indent=2, ensure_ascii=False) + "\n"


def csv_text(frame: pd.DataFrame) -> str:
    """Return the rows as CSV (RFC 4180) with a header; no cell is a formula."""
    whole = frame.map(lambda value: harmless_cell(_joined(plain(value))))
    return whole.astype(object).to_csv(index=False)


def _joined(value: object) -> object:
    """Return a list as text with blanks between, for a form that has no lists."""
    if not isinstance(value, list):
        return value
    return " ".join("" if one is None else str(one) for one in value)


def table_parts(
    frames: dict[str, pd.DataFrame], width: int, columns: list[str] | None = None
) -> Iterator[RenderableType]:
    """Yield the tables as wide as given, each under its name when there are several.

    ``columns`` names those to show instead of the usual ones. Where the width does not suffice,
    columns are left out from the right and named below the table.
    """
    for place, (name, frame) in enumerate(frames.items()):
        if len(frames) > 1:
            yield Text(f"\n{name}" if place else name, style="italic")
        if frame.empty:
            yield Text(f"no {name} in this capture, or none that was asked for")
            continue
        wanted = columns or SHOWN.get(name, tuple(frame.columns))
        shown = [column for column in wanted if column in frame]
        if not columns:
            # a column that says nothing takes room from one that does
            shown = [column for column in shown if _says_something(frame[column])]
        table, left_out = _table(frame, shown, width)
        yield table
        if left_out:
            more = ", ".join(heading_text(column) for column in left_out)
            yield Text(f"left out for want of width: {more} (--wide shows all)", style="dim")


def _says_something(column: "pd.Series[Any]") -> bool:
    return any(not _is_unknown(value) for value in column)


def _is_unknown(value: object) -> bool:
    return not isinstance(value, list) and (value is None or bool(pd.isna(value)))  # type: ignore[call-overload]


def _table(frame: pd.DataFrame, columns: list[str], width: int) -> tuple[Table, list[str]]:
    table = Table(box=None, pad_edge=False, header_style="bold")
    facts = "fact" in frame.columns
    # in a table of facts the unit is that of the fact, not of the column
    rows = [
        {
            column: _cell(str(row["fact"]) if facts and column == "value" else column, row[column])
            for column in columns
        }
        for row in frame.to_dict(orient="records")
    ]
    widths = _widths(columns, rows, width)
    for column in widths:
        is_number = pd.api.types.is_numeric_dtype(frame[column])
        is_number = is_number and not pd.api.types.is_bool_dtype(frame[column])
        table.add_column(
            "\n".join(textwrap.wrap(heading_text(column), widths[column])),
            justify="right" if is_number else "left",
            no_wrap=True,
            overflow="ellipsis",
            width=widths[column],
        )
    for row in rows:
        table.add_row(*(Text(cut_middle(row[name], widths[name])) for name in widths))
    return table, [column for column in columns if column not in widths]


def _widths(columns: list[str], rows: list[dict[str, str]], whole: int) -> dict[str, int]:
    """Return a width for each column that has room.

    Headings break into lines first, then long texts give way, then the columns on the right; the
    first two always stay.
    """
    cells = {column: max(len(row[column]) for row in rows) for column in columns}
    widths = {column: max(len(heading_text(column)), size) for column, size in cells.items()}
    if sum(widths.values()) + GAP * (len(widths) - 1) > whole:
        widths = {
            column: max(*map(len, heading_text(column).split()), size)
            for column, size in cells.items()
        }
    if whole < WIDE_FROM:
        widths = {
            name: min(size, TEXTS_MOST.get(name, TEXT_WIDTH)) for name, size in widths.items()
        }
    shown = list(columns)
    while True:
        excess = sum(widths[name] for name in shown) + GAP * (len(shown) - 1) - whole
        given = {
            name: max(0, widths[name] - LEAST_WIDTHS.get(name, LEAST_TEXT_WIDTH))
            for name in shown
            if name in FLEXIBLE
        }
        if excess <= sum(given.values()) or len(shown) <= KEPT:
            break
        shown.pop()
    for name in reversed(shown):
        if excess > 0 and name in FLEXIBLE:
            less = min(excess, given[name])
            widths[name] -= less
            excess -= less
    return {name: widths[name] for name in shown}


def _curve_cell(name: str, values: list[float | None]) -> str:
    if name == "curve":  # of a sensor, far from nought
        return span_curve_text(values)
    return curve_text(values, 1.0 if name.startswith("busy") else None)


def _cell(name: str, value: object) -> str:
    return _curve_cell(name, plain(value)) if isinstance(value, list) else cell_text(name, value)
