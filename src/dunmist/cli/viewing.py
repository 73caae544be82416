"""What ``dunmist view`` does once its options are read; heavy, so imported only then."""

import json
from pathlib import Path
from typing import Any, NamedTuple

import click
from rich.text import Text

from dunmist.advice import Judged
from dunmist.cli.charts import drawn
from dunmist.cli.pager import console_for, show
from dunmist.cli.parameters import check_word
from dunmist.cli.process_page import as_json, as_text, make_page
from dunmist.cli.selecting import FILTERS, Selection, check_columns, select
from dunmist.cli.table_text import csv_text, json_text, table_parts, tables_object
from dunmist.jobs.selection import find_process
from dunmist.output import check_output
from dunmist.tables import RESOURCE_LEVELS, Filled, plain, topic_tables

HELP = "help"


class Showing(NamedTuple):
    """How to show: ``form`` json, csv or None for people; ``columns`` instead of the usual ones."""

    form: str | None
    columns: list[str] | None
    wide: bool
    pager: bool


def print_topic(judged: Judged, topic: str, showing: Showing, options: dict[str, Any]) -> None:
    """Print the tables of a topic, filtered and sorted as asked; raises UsageError."""
    tables = topic_tables(topic, judged, options["form_of_processes"])
    if options["table"]:
        tables = [_named(tables, options["table"].replace("_", " "))]
    if showing.columns == [HELP]:
        for table in tables:
            click.echo(f"{table.table.name}: {', '.join(table.table.names)}")
        return
    check_columns(tables, showing.columns or [])
    filters = {name: str(options[name]) for name in FILTERS if options[name] is not None}
    if options["listening"]:
        filters["state"] = "listen"
    selection = Selection(filters, options["sort"], options["bottom"], options["limit"])
    whole = not filters and not options["table"]
    _print(select(tables, selection), showing, topic if whole else None, judged)


def print_process(judged: Judged, what: str, showing: Showing) -> None:
    """Print everything about one process."""
    if showing.form == "csv":
        raise click.UsageError("one process is no table; use --json, or 'view processes --each'")
    page = make_page(judged, find_process(judged, what))
    if showing.form == "json":
        whole = {**as_json(page), **tables_object(page.tables)}
        click.echo(json.dumps(plain(whole), indent=2, ensure_ascii=False))
        return
    console = console_for(wide=showing.wide)
    show(console, as_text(judged, page, console.width), pager=showing.pager)


def draw(judged: Judged, topic: str, what: str | None, output: Path, *, force: bool) -> None:
    """Draw a topic's picture into a file; raises OutputError or UsageError."""
    from dunmist.reports.pictures import PICTURES, check_picture, save_picture

    if topic not in PICTURES:
        raise click.UsageError(
            f"there is no picture of {topic}; there is one of {', '.join(PICTURES)}"
        )
    check_picture(output)
    check_output(output, force=force)
    process = None if what is None else find_process(judged, what)
    save_picture(PICTURES[topic](judged, process), output, force=force)
    click.echo(f"wrote {output}", err=True)


def _print(tables: list[Filled], showing: Showing, topic: str | None, judged: Judged) -> None:
    """Print tables; for people under the picture of their topic, if one is named."""
    if showing.form == "json":
        click.echo(json_text(tables, showing.columns), nl=False)
    elif showing.form == "csv":
        click.echo(csv_text(tables[0], showing.columns), nl=False)
    else:
        console = console_for(wide=showing.wide)
        picture = list(drawn(topic, judged, console.width)) if topic else []
        # the levels are what the picture of the timeline shows
        shown = [table for table in tables if table.table is not RESOURCE_LEVELS or not picture]
        gap = [Text("")] if picture and shown else []
        parts = [*picture, *gap, *table_parts(shown, console.width, showing.columns)]
        show(console, parts, pager=showing.pager)


def _named(tables: list[Filled], name: str) -> Filled:
    by_name = {table.table.name: table for table in tables}
    check_word("table", name, by_name)
    return by_name[name]
