"""What the shell offers when a word is completed: topics, columns, processes of the capture.

The shell asks by running the program (``_DUNMIST_COMPLETE``), so nothing heavy is imported before
it is known that a file has to be read.
"""

from pathlib import Path

import click
from click.shell_completion import CompletionItem


def complete_topic(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the topics that begin like the word."""
    del ctx, param
    from dunmist.cli.view import TOPICS

    return [CompletionItem(topic) for topic in TOPICS if topic.startswith(incomplete)]


def complete_columns(
    ctx: click.Context, param: click.Parameter, incomplete: str
) -> list[CompletionItem]:
    """Return the columns of the topic, after those that were already typed."""
    del param
    from dunmist.errors import DunmistError
    from dunmist.reports.columns import SHOWN

    topic, file = ctx.params.get("topic"), ctx.params.get("file")
    names = {name for columns in SHOWN.values() for name in columns}
    if topic and file:
        from dunmist.cli.viewing import judge, topic_frames

        try:
            judged = judge(Path(file))
            shape = ctx.params.get("shape")
            frames = topic_frames(topic, judged.series, judged.diagnosis, shape)
        except (DunmistError, OSError, KeyError):
            frames = {}  # a shell has no place for a message
        names = {str(name) for frame in frames.values() for name in frame.columns} or names
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
    from dunmist.sampling import Process

    file = ctx.params.get("file")
    if ctx.params.get("topic") != "process" or not file:
        return []
    try:
        with CaptureReader(Path(file)) as reader:
            names = {
                program_of(line.facts).name for line in reader.lines() if isinstance(line, Process)
            }
    except (DunmistError, OSError):
        return []  # a shell has no place for a message
    return [CompletionItem(name) for name in sorted(names) if name.startswith(incomplete)]
