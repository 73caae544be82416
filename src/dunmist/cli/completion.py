"""What the shell offers when a word is completed: topics, columns, processes, acts.

The shell asks by running the program (``_DUNMIST_COMPLETE``), so nothing heavy is imported before
it is known that a file has to be read. A shell has no place for a message: where something cannot
be read, nothing is offered.
"""

from pathlib import Path

import click
from click.shell_completion import CompletionItem

from dunmist.cli.parameters import PROCESS, TOPICS


def complete_topic(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the topics that begin like the word."""
    del ctx, param
    return [CompletionItem(topic) for topic in TOPICS if topic.startswith(incomplete)]


def complete_columns(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the columns of the topic, after those that were already typed."""
    del param
    from dunmist.tables import TOPICS as TABLES
    from dunmist.tables import tables_of

    topic = ctx.params.get("topic")
    tables = (
        tables_of(topic, ctx.params.get("form_of_processes"))
        if topic in TABLES
        else [table for tables in TABLES.values() for table in tables]
    )
    names = {name for table in tables for name in table.names}
    before, comma, word = incomplete.rpartition(",")
    return [
        CompletionItem(f"{before}{comma}{name}") for name in sorted(names) if name.startswith(word)
    ]


def complete_what(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the programs of the capture for ``view process``."""
    del param
    from dunmist.applications import program_of
    from dunmist.captures import CaptureReader
    from dunmist.errors import DunmistError
    from dunmist.sampling import ProcessLine

    file = ctx.params.get("file")
    if ctx.params.get("topic") != PROCESS or not file:
        return []
    try:
        with CaptureReader(Path(file)) as reader:
            lines = (line for line in reader.lines() if isinstance(line, ProcessLine))
            names = {program_of(line.facts).name for line in lines}
    except (DunmistError, OSError):
        return []
    return [CompletionItem(name) for name in sorted(names) if name.startswith(incomplete)]


def complete_act(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the numbers of the acts that can still be undone, with what each was."""
    del ctx, param
    from dunmist.errors import DunmistError
    from dunmist.jobs.acts import acts_to_undo

    try:
        lines = acts_to_undo()
    except (DunmistError, OSError):
        return []
    return [
        CompletionItem(str(line.number), help=line.act.verb)
        for line in lines
        if str(line.number).startswith(incomplete)
    ]
