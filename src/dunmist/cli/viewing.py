"""Run ``dunmist view`` after its options are read; heavy, so imported only then."""

import json
from pathlib import Path
from typing import Any, NamedTuple

import click
from rich.text import Text

from dunmist.advice import Judged
from dunmist.cli.application_page import application_text, make_application_page
from dunmist.cli.charts import drawn
from dunmist.cli.column_words import columns_of
from dunmist.cli.pager import console_for, show
from dunmist.cli.parameters import check_word
from dunmist.cli.process_page import as_json, as_text, make_page
from dunmist.cli.selecting import FILTERS, Selection, select
from dunmist.cli.table_text import Asked, csv_text, json_text, table_parts, tables_object
from dunmist.harmless import harmless
from dunmist.jobs.file_users import file_users
from dunmist.jobs.selection import find_application, find_process
from dunmist.output import check_output
from dunmist.tables import FILE_USERS, RESOURCE_LEVELS, Filled, filled, plain, topic_tables

HELP = "help"


class OutputOptions(NamedTuple):
    """Output: ``form`` is json, csv or None for people; ``columns`` replace the usual ones."""

    form: str | None
    columns: list[str] | None
    wide: bool
    pager: bool


def print_topic(judged: Judged, topic: str, output: OutputOptions, options: dict[str, Any]) -> None:
    """Print the tables of a topic, filtered and sorted as asked; raises UsageError."""
    tables = topic_tables(topic, judged, options["form_of_processes"])
    if options["table"]:
        tables = [_named(tables, options["table"].replace("_", " "))]
    if output.columns == [HELP]:
        for table in tables:
            click.echo(f"{table.table.name}: {', '.join(table.table.names)}")
        return
    chosen = columns_of(tables, output.columns) if output.columns else {}
    if chosen:
        tables = [table for table in tables if chosen[table.table.name]]
    filters = {name: str(options[name]) for name in FILTERS if options[name] is not None}
    if options["listening"]:
        filters["state"] = "listen"
    selection = Selection(filters, options["sort"], options["bottom"], options["limit"])
    whole = not filters and not options["table"]
    tables = select(tables, selection)
    words = [word.partition(":")[0] for word in (options["sort"] or "").split(",") if word]
    asked = Asked(chosen, columns_of(tables, words) if words else {})
    _print(tables, output, topic if whole else None, judged, asked)


def print_process(judged: Judged, what: str, output: OutputOptions) -> None:
    """Print everything about one process."""
    if output.form == "csv":
        raise click.UsageError(
            "one process has no CSV table; use --json, or 'view processes --each'"
        )
    application = find_application(judged, what)
    main = application.main if application else None
    page = make_page(judged, main or find_process(judged, what))
    if output.form == "json":
        whole = {**as_json(page), **tables_object(page.tables)}
        if application is not None:
            whole["application"] = dict(make_application_page(judged, application).facts)
        click.echo(json.dumps(plain(whole), indent=2, ensure_ascii=False))
        return
    console = console_for(wide=output.wide)
    if application is None:
        parts = as_text(judged, page, console.width)
    else:
        whole_page = make_application_page(judged, application)
        parts = application_text(judged, whole_page, console.width)
    show(console, parts, pager=output.pager)


def print_file_users(path: str, output: OutputOptions) -> None:
    """Print which processes use a file now; raises UnknownName."""
    answer = file_users(path)
    table = filled(FILE_USERS, answer.users)
    if output.form == "json":
        click.echo(json_text([table]), nl=False)
        return
    console = console_for(wide=output.wide)
    if answer.users:
        show(console, [*table_parts([table], console.width)], pager=output.pager)
    else:
        click.echo(f"no process that could be read uses {harmless(answer.path)}")
    if answer.hidden:
        hidden = "1 process hides" if answer.hidden == 1 else f"{answer.hidden} processes hide"
        click.echo(f"{hidden} which files are open; ask as administrator", err=True)


def draw(judged: Judged, topic: str, what: str | None, output: Path, *, force: bool) -> None:
    """Draw a topic's picture into a file; raises OutputError or UsageError."""
    from dunmist.reports.pictures import PICTURES, check_picture, save_picture

    if topic not in PICTURES:
        raise click.UsageError(f"no picture of {topic}; choose from {', '.join(PICTURES)}")
    check_picture(output)
    check_output(output, force=force)
    application = None if what is None else find_application(judged, what)
    main = application.main if application else None
    process = main if what is None or main else find_process(judged, what)
    save_picture(PICTURES[topic](judged, process), output, force=force)
    click.echo(f"wrote {output}", err=True)


def _print(
    tables: list[Filled], output: OutputOptions, topic: str | None, judged: Judged, asked: Asked
) -> None:
    """Print tables; for people under the picture of their topic, if one is named."""
    if output.form == "json":
        click.echo(json_text(tables, asked.columns), nl=False)
    elif output.form == "csv":
        click.echo(csv_text(tables[0], asked.columns), nl=False)
    else:
        console = console_for(wide=output.wide)
        picture = list(drawn(topic, judged, console.width)) if topic else []
        # the levels are what the picture of the timeline shows
        shown = [table for table in tables if table.table is not RESOURCE_LEVELS or not picture]
        gap = [Text("")] if picture and shown else []
        parts = [*picture, *gap, *table_parts(shown, console.width, asked)]
        show(console, parts, pager=output.pager)


def _named(tables: list[Filled], name: str) -> Filled:
    by_name = {table.table.name: table for table in tables}
    check_word("table", name, by_name)
    return by_name[name]
