"""Tables as text: for a terminal, as JSON and CSV for programs."""

import csv
import io
import json
import textwrap
from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

from rich.console import RenderableType
from rich.table import Table as Grid
from rich.text import Text

from dunmist.harmless import cut_middle, harmless_cell
from dunmist.tables import Column, Filled, Row, cell_text, plain

GAP = 2
# columns that stay however narrow the terminal is
KEPT = 2
# from this width on nothing is cut, and no text is longer than this where it is not declared
WIDE_FROM, TEXT_MOST = 1000, 36


class Asked(NamedTuple):
    """Columns that were asked for, and those that sort; both by the name of their table."""

    columns: Mapping[str, list[str]] = {}
    sorting: Mapping[str, list[str]] = {}


def tables_object(
    tables: list[Filled], columns: Mapping[str, list[str]] | None = None
) -> dict[str, Any]:
    """Return a list of rows for each table; what is unknown is None."""
    return {
        table.table.key: [
            {
                name: plain(value)
                for name, value in row.items()
                if not columns or name in columns[table.table.name]
            }
            for row in table.rows
        ]
        for table in tables
    }


def json_text(tables: list[Filled], columns: Mapping[str, list[str]] | None = None) -> str:
    """Return an object with a list of rows for each table; what is unknown is null."""
    return json.dumps(tables_object(tables, columns), indent=2, ensure_ascii=False) + "\n"


def csv_text(filled: Filled, columns: Mapping[str, list[str]] | None = None) -> str:
    """Return the rows as CSV (RFC 4180) with a header; no cell is a formula."""
    wanted = columns[filled.table.name] if columns else filled.table.names
    written = io.StringIO()
    lines = csv.writer(written, lineterminator="\n")
    lines.writerow(wanted)
    for row in filled.rows:
        lines.writerow(harmless_cell(_joined(plain(row[name]))) for name in wanted)
    return written.getvalue()


def _joined(value: object) -> object:
    """Return a list as text with blanks between, for a form that has no lists."""
    if not isinstance(value, list):
        return value
    return " ".join("" if cell is None else str(cell) for cell in value)


def table_parts(
    tables: list[Filled], width: int, asked: Asked | None = None
) -> Iterator[RenderableType]:
    """Yield the tables as wide as given, each under its name when there are several.

    Where the width does not suffice, columns are left out from the right and named below the
    table; those that were asked for or that sort it stay.
    """
    asked = asked or Asked()
    for index, shown in enumerate(tables):
        name = shown.table.name
        if len(tables) > 1:
            yield Text(f"\n{name}" if index else name, style="italic")
        if not shown.rows:
            yield Text(f"no {name} in this capture, or none that was asked for")
            continue
        chosen, sorting = asked.columns.get(name), asked.sorting.get(name, [])
        grid, left_out = _grid(shown, _shown(shown, chosen, sorting), width, chosen or sorting)
        yield grid
        if left_out:
            more = ", ".join(column.heading for column in left_out)
            yield Text(f"left out for want of width: {more} (--wide shows all)", style="dim")


def _shown(filled: Filled, names: list[str] | None, sorting: list[str]) -> list[Column[Any]]:
    if names:
        return [filled.table.column(name) for name in names]
    usual = filled.table.shown_columns()
    more = [filled.table.column(name) for name in sorting if name not in {c.name for c in usual}]
    # a column that says nothing takes room from one that does
    return [
        column
        for column in [*usual[:KEPT], *more, *usual[KEPT:]]
        if filled.has_figures(column.name)
    ]


def _grid(
    filled: Filled, columns: list[Column[Any]], width: int, kept: list[str]
) -> tuple[Grid, list[Column[Any]]]:
    grid = Grid(box=None, pad_edge=False, header_style="bold")
    rows = [{column.name: _cell(filled, column, row) for column in columns} for row in filled.rows]
    widths = _widths(columns, rows, width, kept)
    for column in columns:
        if column.name in widths:
            grid.add_column(
                "\n".join(textwrap.wrap(column.heading, widths[column.name])),
                justify="right" if column.is_numeric else "left",
                no_wrap=True,
                overflow="ellipsis",
                width=widths[column.name],
            )
    for row in rows:
        grid.add_row(*(Text(cut_middle(row[name], size)) for name, size in widths.items()))
    return grid, [column for column in columns if column.name not in widths]


def _widths(
    columns: list[Column[Any]], rows: list[dict[str, str]], whole: int, kept: list[str]
) -> dict[str, int]:
    """Return a width for each column that has room.

    Headings break into lines first, then long texts give way, then the columns on the right; the
    first two and ``kept`` ones always stay.
    """
    cells = {column.name: max(len(row[column.name]) for row in rows) for column in columns}
    headings = {column.name: column.heading for column in columns}
    widths = {name: max(len(headings[name]), size) for name, size in cells.items()}
    if sum(widths.values()) + GAP * (len(widths) - 1) > whole:
        widths = {
            name: max(*map(len, headings[name].split()), size) for name, size in cells.items()
        }
    flexible = {column.name: column.width for column in columns if column.width}
    if whole < WIDE_FROM:
        widths = {
            name: min(size, flexible[name].most if name in flexible else TEXT_MOST)
            for name, size in widths.items()
        }
    shown = list(widths)
    droppable = [name for name in shown[KEPT:] if name not in kept]
    while True:
        excess = sum(widths[name] for name in shown) + GAP * (len(shown) - 1) - whole
        given = {
            name: max(0, widths[name] - flexible[name].least) for name in shown if name in flexible
        }
        if excess <= sum(given.values()) or not droppable:
            break
        shown.remove(droppable.pop())
    for name in reversed(shown):
        if excess > 0 and name in given:
            less = min(excess, given[name])
            widths[name] -= less
            excess -= less
    return {name: widths[name] for name in shown}


def _cell(filled: Filled, column: Column[Any], row: Row) -> str:
    return cell_text(filled.table.unit_of(column, row), row[column.name], filled.zone)
