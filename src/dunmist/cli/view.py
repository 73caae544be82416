"""``dunmist view``: one topic of a capture as tables, as JSON or as CSV."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from dunmist.cli.parameters import FILE

if TYPE_CHECKING:
    import pandas as pd

TOPICS = ("processes", "cores", "memory", "heat", "ports", "disks", "links", "services",
          "autostart", "sessions", "machine")  # fmt: skip


@click.command()
@click.argument("topic", metavar="TOPIC")
@click.argument("file", type=FILE)
@click.option("--json", "form", flag_value="json", help="Print JSON: a list of rows a table.")
@click.option("--csv", "form", flag_value="csv", help="Print CSV: one table.")
@click.option("--table", "wanted", metavar="NAME", help="Only this table of the topic.")
@click.option("--each", is_flag=True, help="With processes: one row a process, not application.")
@click.option("--limit", type=click.IntRange(1), help="Print at most this many rows of a table.")
def view(
    topic: str, file: Path, form: str | None, wanted: str | None, each: bool, limit: int | None
) -> None:
    """Show TOPIC of the capture FILE.

    Topics: processes, cores, memory, heat, ports, disks, links, services, autostart, sessions and
    machine.
    """
    _check_word("topic", topic, TOPICS)
    from dunmist.cli.tables import csv_text, json_text, print_tables

    frames = _frames(topic, file, each=each)
    if wanted:
        name = wanted.replace("_", " ")
        _check_word("table", name, tuple(frames))
        frames = {name: frames[name]}
    if limit:
        frames = {name: frame.head(limit) for name, frame in frames.items()}
    if form == "json":
        click.echo(json_text(frames), nl=False)
    elif form == "csv":
        click.echo(csv_text(next(iter(frames.values()))), nl=False)
    else:
        print_tables(frames)


def _check_word(kind: str, word: str, words: tuple[str, ...]) -> None:
    if word not in words:
        from difflib import get_close_matches

        near = get_close_matches(word, words, n=1)
        hint = f"did you mean '{near[0]}'?" if near else f"choose from {', '.join(words)}"
        raise click.UsageError(f"there is no {kind} '{word}'; {hint}")


def _frames(topic: str, file: Path, *, each: bool) -> "dict[str, pd.DataFrame]":
    from dunmist.cli.judging import load
    from dunmist.series import tables

    series = load(file)
    if topic == "processes" and each:
        return {"processes": tables.process_table(series)}
    return {name: make(series) for name, make in tables.TOPICS[topic]}
