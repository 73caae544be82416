"""``dunmist view``: one topic of a capture, as tables and pictures, as JSON or as CSV."""

from pathlib import Path
from typing import Any

import click

from dunmist.cli.completion import (
    complete_columns,
    complete_owner,
    complete_program,
    complete_role,
    complete_sort,
    complete_table,
    complete_topic,
    complete_what,
)
from dunmist.cli.parameters import (
    CAPTURE,
    FILE,
    LAST,
    PROCESS,
    TOPICS,
    part_options,
    refuse_given,
    topic_of,
)

# a file, which is resolved once it is known that it is one
FILE_OR_WHAT = click.Path()
# what chooses tables, columns and rows
CHOOSING = (
    "table",
    "columns",
    "sort",
    "bottom",
    "limit",
    "owner",
    "name",
    "pid",
    "service",
    "port",
    "listening",
    "state",
    "role",
    "least",
)


@click.command()
@click.argument("topic", metavar="TOPIC", shell_complete=complete_topic)
@click.argument("file", type=FILE_OR_WHAT, required=False)
@click.argument("what", required=False, shell_complete=complete_what)
@part_options
@click.option("--json", "as_json", is_flag=True, help="Print JSON: a list of rows a table.")
@click.option("--csv", "as_csv", is_flag=True, help="Print CSV: one table.")
@click.option(
    "-o",
    "--output",
    type=FILE,
    metavar="PICTURE",
    help="Draw a picture into PICTURE.png or PICTURE.svg instead.",
)
@click.option("--force", is_flag=True, help="Overwrite PICTURE when it exists.")
@click.option(
    "--table",
    "table",
    metavar="NAME",
    shell_complete=complete_table,
    help="Only this table of the topic.",
)
@click.option(
    "--each", "form_of_processes", flag_value="each", help="Processes: applications unfolded."
)
@click.option(
    "--flat", "form_of_processes", flag_value="flat", help="Processes: each by its own use."
)
@click.option("--tree", "form_of_processes", flag_value="tree", help="Processes: who started whom.")
@click.option(
    "--columns",
    metavar="A,B,…",
    shell_complete=complete_columns,
    help="Show these columns; 'help' lists all that there are.",
)
@click.option(
    "--sort",
    metavar="A,B:up,…",
    shell_complete=complete_sort,
    help="Sort by these columns; figures greatest first, texts from A on.",
)
@click.option("--bottom", is_flag=True, help="Turn the order round: the first row comes last.")
@click.option("--limit", type=click.IntRange(1), help="Print at most this many rows of a table.")
@click.option(
    "--owner", metavar="USER", shell_complete=complete_owner, help="Only what belongs to USER."
)
@click.option(
    "--name",
    metavar="PATTERN",
    shell_complete=complete_program,
    help="Only names that hold PATTERN, or fit it with *.",
)
@click.option("--pid", type=click.IntRange(0), help="Only this process.")
@click.option("--service", metavar="UNIT", help="Only this service.")
@click.option("--port", type=click.IntRange(0, 65535), help="Only who has this port.")
@click.option("--listening", is_flag=True, help="Ports: only those that are listened on.")
@click.option("--state", help="Only what is in this state.")
@click.option(
    "--role", shell_complete=complete_role, help="Only cause, symptom, victim or observer."
)
@click.option("--least", type=float, metavar="CORES", help="Only what uses at least so much.")
@click.option("--wide", is_flag=True, help="Show all columns and whole texts, however wide.")
@click.option("--pager/--no-pager", default=True, help="Long output on a terminal is paged.")
@click.pass_context
def view(
    context: click.Context,
    /,
    topic: str,
    file: str | None,
    what: str | None,
    **options: Any,  # noqa: ANN401
) -> None:
    """Show TOPIC of the capture FILE, or of this computer now.

    Without FILE it samples for two seconds. FILE may be 'last', the newest capture.

    Topics: processes, process (with WHAT: a number or a name), cores, memory, heat, ports, disks,
    links, services, autostart, sessions, machine, boot, messages and timeline. Other words for
    them are understood: network, cpu, sensors, users, startup.
    """
    is_file = topic == LAST or Path(topic).exists()
    if topic not in TOPICS and file is None and is_file:
        raise click.UsageError(f"the topic is missing before '{topic}'; use {', '.join(TOPICS)}")
    topic = topic_of(topic)
    if topic == PROCESS and what is None and file and not Path(file).is_file():
        # one argument is the process, and the computer is this one
        file, what = None, file
    if (topic == PROCESS) != (what is not None):
        raise click.UsageError("'view process [FILE] WHAT' takes a process number or name")
    if options["form_of_processes"] and topic != "processes":
        raise click.UsageError(
            f"--{options['form_of_processes']} goes with processes, not with {topic}"
        )
    if options["as_json"] and options["as_csv"]:
        raise click.UsageError("--json and --csv are two forms; choose one")
    if options["output"]:
        ignored = f"a picture shows all of {topic}; leave out {{}}"
        refuse_given(context, ("as_json", "as_csv", "wide", *CHOOSING), ignored)
    elif options["force"]:
        raise click.UsageError("--force overwrites a picture; name one with -o")
    elif topic == PROCESS:
        refuse_given(context, CHOOSING, "the page of a process has no rows to choose; leave out {}")
    if file is None:
        refuse_given(context, ("since", "until"), "{} chooses a part of a FILE; name one")
        from dunmist.jobs.quick_sample import quick_sample

        with quick_sample() as path:
            _show(path, topic, what, options)
        return
    _show(CAPTURE.convert(file, None, context), topic, what, options)


def _show(file: Path, topic: str, what: str | None, options: dict[str, Any]) -> None:
    """Judge a capture and show a topic of it as asked."""
    from dunmist.cli import viewing
    from dunmist.jobs.judge import judge, part_of

    part = part_of(file, options["since"], options["until"])
    judged = judge(file, part=part, looks_for_bad_window=False)
    showing = viewing.Showing(
        _form(options), _words(options["columns"]), options["wide"], options["pager"]
    )
    if options["output"]:
        viewing.draw(judged, topic, what, options["output"], force=options["force"])
    elif what is not None:
        viewing.print_process(judged, what, showing)
    else:
        viewing.print_topic(judged, topic, showing, options)


def _form(options: dict[str, Any]) -> str | None:
    return "json" if options["as_json"] else "csv" if options["as_csv"] else None


def _words(text: str | None) -> list[str] | None:
    return [word.strip() for word in text.split(",")] if text else None
