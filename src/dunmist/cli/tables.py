"""Frames as text: a table for a terminal, JSON and CSV for programs."""

import json
import math
import shutil
import sys

import pandas as pd
from rich.console import Console
from rich.table import Table
from rich.text import Text

from dunmist.cli.columns import SHOWN, heading_text, number_text
from dunmist.cli.harmless import cut_middle, harmless, harmless_cell

PIPED_WIDTH = 160
TEXT_WIDTH = 36
LEAST_TEXT_WIDTH = 16
GAP = 2
WIDE_TEXTS = {
    "remark": 84,
    "about": 44,
    "command": 60,
    "command_line": 60,
    "source": 44,
    "group": 70,
}
EXACT_BELOW = 2**53  # whole numbers up to here are exact as floating point


def json_text(frames: dict[str, pd.DataFrame]) -> str:
    """Return an object with a list of rows for each table; what is unknown is null."""
    tables = {
        name.replace(" ", "_"): [
            {str(column): _plain(value) for column, value in row.items()}
            for row in frame.to_dict(orient="records")
        ]
        for name, frame in frames.items()
    }
    return json.dumps(tables, indent=2, ensure_ascii=False) + "\n"


def csv_text(frame: pd.DataFrame) -> str:
    """Return the rows as CSV (RFC 4180) with a header; no cell is a formula."""
    whole = frame.map(lambda value: harmless_cell(_plain(value)))
    return whole.astype(object).to_csv(index=False)


def print_tables(frames: dict[str, pd.DataFrame]) -> None:
    """Print the tables as wide as the terminal, each under its name when there are several."""
    width = shutil.get_terminal_size((PIPED_WIDTH, 24)).columns if sys.stdout.isatty() else None
    console = Console(width=width or PIPED_WIDTH, highlight=False)
    for place, (name, frame) in enumerate(frames.items()):
        if len(frames) > 1:
            console.print(Text(f"\n{name}" if place else name, style="italic"))
        if frame.empty:
            console.print(f"no {name} in this capture; triage says what could not be seen")
        else:
            console.print(_table(name, frame, console.width))


def _table(name: str, frame: pd.DataFrame, width: int) -> Table:
    table = Table(box=None, pad_edge=False, header_style="bold")
    columns = [column for column in SHOWN.get(name, tuple(frame.columns)) if column in frame]
    # a column that says nothing takes room from one that does
    columns = [column for column in columns if frame[column].notna().any()]
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
    for column in columns:
        is_number = pd.api.types.is_numeric_dtype(frame[column])
        is_number = is_number and not pd.api.types.is_bool_dtype(frame[column])
        table.add_column(
            heading_text(column),
            justify="right" if is_number else "left",
            no_wrap=True,
            overflow="ellipsis",
            width=widths[column],
        )
    for row in rows:
        table.add_row(*(Text(row[column]) for column in columns))
    return table


def _widths(columns: list[str], rows: list[dict[str, str]], whole: int) -> dict[str, int]:
    """Return a width for each column; only long texts give way where the terminal is narrow."""
    widths = {
        column: max(len(heading_text(column)), *(len(row[column]) for row in rows))
        for column in columns
    }
    excess = sum(widths.values()) + GAP * (len(columns) - 1) - whole
    for column in reversed(columns):
        if excess > 0 and column in WIDE_TEXTS:
            given = min(excess, max(0, widths[column] - LEAST_TEXT_WIDTH))
            widths[column] -= given
            excess -= given
    return widths


def _plain(value: object) -> object:
    if value is pd.NA or value is None:
        return None
    if hasattr(value, "item"):
        value = value.item()
    if isinstance(value, float):
        if not math.isfinite(value):
            return None
        if value.is_integer() and abs(value) < EXACT_BELOW:
            return int(value)
        return float(f"{value:.6g}")
    return harmless(value) if isinstance(value, str) else value


def _cell(name: str, value: object) -> str:
    plain = _plain(value)
    if plain is None:
        return "–"
    if isinstance(plain, bool):
        return "yes" if plain else "no"
    if isinstance(plain, int | float):
        return number_text(name, float(plain))
    return cut_middle(str(plain), WIDE_TEXTS.get(name, TEXT_WIDTH))
