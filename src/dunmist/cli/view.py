"""``dunmist view``: one topic of a capture as a table, as JSON or as CSV."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from dunmist.cli.parameters import FILE

if TYPE_CHECKING:
    import pandas as pd

    from dunmist.series import Series

TOPICS = ("processes", "cores", "memory", "machine")


@click.command()
@click.argument("topic", metavar="TOPIC")
@click.argument("file", type=FILE)
@click.option("--json", "form", flag_value="json", help="Print JSON, one object a row.")
@click.option("--csv", "form", flag_value="csv", help="Print CSV.")
@click.option("--each", is_flag=True, help="With processes: one row a process, not application.")
@click.option("--limit", type=click.IntRange(1), help="Print at most this many rows.")
def view(topic: str, file: Path, form: str | None, each: bool, limit: int | None) -> None:
    """Show TOPIC of the capture FILE: processes, cores, memory or machine."""
    _check_topic(topic)
    from dunmist.cli.tables import csv_text, json_text, print_table
    from dunmist.series import load_series

    frame = _table(topic, load_series(file), each=each)
    if limit:
        frame = frame.head(limit)
    if form == "json":
        click.echo(json_text(frame), nl=False)
    elif form == "csv":
        click.echo(csv_text(frame), nl=False)
    else:
        print_table(frame)


def _check_topic(topic: str) -> None:
    if topic not in TOPICS:
        from difflib import get_close_matches

        near = get_close_matches(topic, TOPICS, n=1)
        hint = f"did you mean '{near[0]}'?" if near else f"choose from {', '.join(TOPICS)}"
        raise click.UsageError(f"there is no topic '{topic}'; {hint}")


def _table(topic: str, series: "Series", *, each: bool) -> "pd.DataFrame":
    from dunmist.series import tables

    makers = {
        "processes": tables.process_table if each else tables.application_table,
        "cores": tables.core_table,
        "memory": tables.memory_table,
        "machine": tables.machine_table,
    }
    return makers[topic](series)
