"""Complete words in the shell: topics, tables, columns, processes, owners, acts.

The shell asks by running the program (``_DUNMIST_COMPLETE``), so nothing heavy is imported before
it is known that a file has to be read. A shell has no place for a message: where something cannot
be read, nothing is offered.
"""

import re
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

import click
from click.shell_completion import CompletionItem

if TYPE_CHECKING:
    from dunmist.sampling import ProcessLine

ORDERS = ("up", "down")
NEEDS_NO_QUOTES = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.:@/+-]*")


def complete_columns(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the columns of the topic, after those that were already typed."""
    del param
    from dunmist.tables import TOPICS as TABLES
    from dunmist.tables import tables_of

    topic = ctx.command.name
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


def complete_sort(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the columns of the topic, and both orders once a column is whole."""
    offered = complete_columns(ctx, param, incomplete)
    names = [item.value for item in offered]
    before, colon, word = incomplete.rpartition(":")
    if colon:
        return [CompletionItem(f"{before}:{order}") for order in ORDERS if order.startswith(word)]
    if names == [incomplete]:
        return [*offered, *(CompletionItem(f"{incomplete}:{order}") for order in ORDERS)]
    return offered


def complete_table(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the tables of the topic."""
    del param
    from dunmist.tables import TOPICS as TABLES
    from dunmist.tables import tables_of

    topic = ctx.command.name
    tables = tables_of(topic, ctx.params.get("form_of_processes")) if topic in TABLES else ()
    return [CompletionItem(table.key) for table in tables if table.key.startswith(incomplete)]


def complete_role(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the roles that a culprit can have."""
    del ctx, param
    from dunmist.diagnosis import ROLES

    return [CompletionItem(role) for role in ROLES if role.startswith(incomplete)]


def complete_program(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the programs of the capture."""
    del param
    from dunmist.applications import program_of

    names = {program_of(line.facts).name for line in _processes_of(ctx)}
    return _plain(names, incomplete)


def complete_owner(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the owners of the processes of the capture."""
    del param
    names = {line.facts.user for line in _processes_of(ctx) if line.facts.user}
    return _plain(names, incomplete)


def _plain(names: Iterable[str], incomplete: str) -> list[CompletionItem]:
    """Return those that begin like the word and mean nothing else to any shell.

    Names in a capture are chosen by others; a shell puts what is offered on the command line as it
    is, and takes each line for an entry.
    """
    return [
        CompletionItem(name)
        for name in sorted(names)
        if name.startswith(incomplete) and NEEDS_NO_QUOTES.fullmatch(name)
    ]


def _typed(ctx: click.Context, name: str) -> str | None:
    """Return an argument that was typed; behind an option without its value none was taken yet."""
    given = ctx.params.get(name)
    arguments = [param.name for param in ctx.command.params if isinstance(param, click.Argument)]
    if given is None and len(ctx.args) > arguments.index(name):
        return ctx.args[arguments.index(name)]
    return None if given is None else str(given)


def _processes_of(ctx: click.Context) -> "list[ProcessLine]":
    """Return the processes of the capture that is named; none where it cannot be read."""
    from dunmist.captures import CaptureReader
    from dunmist.errors import DunmistError
    from dunmist.sampling import ProcessLine

    file = _typed(ctx, "file")
    if not file:
        return []
    try:
        with CaptureReader(Path(file)) as reader:
            return [line for line in reader.lines() if isinstance(line, ProcessLine)]
    except (DunmistError, OSError):
        return []


def complete_patient(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the patients of the demo."""
    del ctx, param
    from dunmist.simulation import scenario_names

    return _plain(scenario_names(), incomplete)


def complete_word(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the words that can be explained."""
    del ctx, param
    from dunmist.advice.glossary import glossary

    return _plain(glossary(), incomplete)


def complete_step(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the names of the steps of the ladder, in its order."""
    del ctx, param
    from dunmist.advice.wording import ladder

    return [CompletionItem(name) for name in ladder()["step"] if name.startswith(incomplete)]


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
