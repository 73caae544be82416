"""``dunmist view``: one topic of a capture, as tables and pictures, as JSON or as CSV.

Each topic is a command with the options that apply to it; dunmist.cli.topics declares which.
"""

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dunmist.cli import completion
from dunmist.cli.parameters import CAPTURE, FILE, LAST, PointInTimeType, refuse_given
from dunmist.cli.topics import PROCESS, TOPICS, WITH_CODE, topic_of

if TYPE_CHECKING:
    from dunmist.cli.viewing import OutputOptions

# a file, which is resolved once it is known that it is one
FILE_OR_WHAT = click.Path()
TIME_FORMS = "90s or 5m after its beginning, or 14:02 by the patient's clock."

# names of processes do not begin so
PATH_BEGINNINGS = ("/", "./", "../", "~")

Make = Callable[..., click.Option]


def _option(*names: str, **settings: Any) -> Make:  # noqa: ANN401
    """Return the constructor of an option; each command needs one of its own."""
    return partial(click.Option, names, **settings)


# by name, in the order of the help
OPTIONS: dict[str, Make] = {
    "json": _option("--json", "as_json", is_flag=True, help="Print JSON: a list of rows a table."),
    "csv": _option("--csv", "as_csv", is_flag=True, help="Print CSV: one table."),
    "output": _option(
        "-o",
        "--output",
        type=FILE,
        metavar="PICTURE",
        help="Draw PICTURE.png or PICTURE.svg instead.",
    ),
    "force": _option("--force", is_flag=True, help="Overwrite PICTURE when it exists."),
    "table": _option(
        "--table",
        metavar="NAME",
        shell_complete=completion.complete_table,
        help="Only this table of the topic.",
    ),
    "each": _option(
        "--each",
        "form_of_processes",
        flag_value="each",
        help="Show the processes of each application below it.",
    ),
    "flat": _option(
        "--flat", "form_of_processes", flag_value="flat", help="Show processes, not applications."
    ),
    "tree": _option(
        "--tree", "form_of_processes", flag_value="tree", help="Show processes below their parents."
    ),
    "columns": _option(
        "--columns",
        metavar="A,B,…",
        shell_complete=completion.complete_columns,
        help="Show these columns; 'help' lists all of them.",
    ),
    "sort": _option(
        "--sort",
        metavar="A,B:up,…",
        shell_complete=completion.complete_sort,
        help="Sort by these columns: cpu, memory, disk, network, …",
    ),
    "bottom": _option("--bottom", is_flag=True, help="Print the rows in reverse order."),
    "limit": _option("--limit", type=click.IntRange(1), metavar="N", help="Print N rows at most."),
    "owner": _option(
        "--owner",
        metavar="USER",
        shell_complete=completion.complete_owner,
        help="Only rows of this user: name or number; @GROUP for a group.",
    ),
    "name": _option(
        "--name",
        metavar="PATTERN",
        shell_complete=completion.complete_program,
        help="Only names that contain PATTERN, or match it with *.",
    ),
    "pid": _option("--pid", type=click.IntRange(0), metavar="PID", help="Only this process."),
    "service": _option("--service", metavar="UNIT", help="Only this service, or scope."),
    "port": _option(
        "--port",
        type=click.IntRange(0, 65535),
        metavar="PORT",
        help="Only programs that use this port.",
    ),
    "listening": _option("--listening", is_flag=True, help="Only ports that accept connections."),
    "state": _option("--state", metavar="STATE", help="Only rows in this state."),
    "role": _option(
        "--role",
        metavar="ROLE",
        shell_complete=completion.complete_role,
        help="Only cause, symptom, victim or observer.",
    ),
    "least": _option(
        "--least",
        type=float,
        metavar="FIGURE",
        help="Only rows whose use is at least this, in cores or as a share.",
    ),
    "days": _option(
        "--days", type=click.FloatRange(0), metavar="N", help="Only of the last N days."
    ),
    "since": _option(
        "--since",
        type=PointInTimeType(),
        metavar="TIME",
        help=f"Use the capture from TIME on: {TIME_FORMS}",
    ),
    "until": _option(
        "--until", type=PointInTimeType(), metavar="TIME", help="Use it up to TIME only."
    ),
    "wide": _option("--wide", is_flag=True, help="Show all columns, however wide."),
    "pager": _option("--pager/--no-pager", default=True, help="Page long output on a terminal."),
}
FORMS = ("each", "flat", "tree")
# options that choose columns and rows of tables
TABLE_OPTIONS = ("columns", "sort", "bottom", "limit")
COMMON = ("json", "since", "until", "wide", "pager")
FILTERS = ("owner", "name", "pid", "service", "port", "listening", "state", "role", "least", "days")


class Topics(click.Group):
    """The topics as commands; other words for a topic are understood, in any case of letters."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Refuse a call without a topic with the list of topics."""
        if not args and not ctx.resilient_parsing:
            raise click.UsageError(f"the topic is missing; choose from {', '.join(TOPICS)}", ctx)
        return super().parse_args(ctx, args)

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the topics in the order of the work."""
        del ctx
        return list(TOPICS)

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the topics only, so that they fit on one screen."""
        self.format_commands(ctx, formatter)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Return the command of a topic; raises UsageError with the nearest right word."""
        if cmd_name not in TOPICS and (cmd_name == LAST or Path(cmd_name).exists()):
            raise click.UsageError(
                f"the topic is missing before '{cmd_name}'; choose from {', '.join(TOPICS)}", ctx
            )
        return _command(topic_of(cmd_name))


@click.group(cls=Topics, subcommand_metavar="TOPIC [FILE]", options_metavar="")
def view() -> None:
    """Show a TOPIC of the capture FILE, or of this computer now.

    Without FILE it samples for two seconds. FILE may be 'last', the newest capture. Topics have
    other words too: network, cpu, sensors, users. 'view TOPIC --help' lists the options.
    """


def _command(topic: str) -> click.Command:
    declared = TOPICS[topic]
    names = {*COMMON, *declared.filters}
    if topic == PROCESS:
        arguments = [
            click.Argument(["file"], type=FILE_OR_WHAT, required=False),
            click.Argument(["what"], required=False, shell_complete=completion.complete_program),
        ]
    else:
        arguments = [click.Argument(["file"], type=FILE_OR_WHAT, required=False)]
        names |= {"csv", *TABLE_OPTIONS}
    if topic == "processes":
        names |= {*FORMS}
    if declared.has_tables and topic != PROCESS:
        names.add("table")
    if declared.has_picture:
        names |= {"output", "force"}
    about = declared.about
    if topic == PROCESS:
        about += (
            "\n\nWHAT is a number or name of a process, 'culprit:1', or the path of a file: then "
            "it lists who has the file open. FILE may be left out: this computer now."
        )
    return click.Command(
        topic,
        params=[*arguments, *(make() for name, make in OPTIONS.items() if name in names)],
        callback=partial(_view, topic),
        help=about,
        short_help=declared.about,
    )


@click.pass_context
def _view(
    context: click.Context,
    topic: str,
    /,
    file: str | None,
    what: str | None = None,
    **given: Any,  # noqa: ANN401
) -> None:
    options = {parameter.name: None for make in OPTIONS.values() for parameter in (make(),)} | given
    if topic == PROCESS and what is None:
        # one argument is the process, and the computer is this one
        what = file
        file = None
        if not what or _is_capture(what):
            raise click.UsageError("the process is missing; give its number or name")
    if options["as_json"] and options["as_csv"]:
        raise click.UsageError("--json and --csv are two forms; choose one")
    if options["output"]:
        ignored = f"a picture shows all of {topic}; leave out {{}}"
        refuse_given(
            context, ("as_json", "as_csv", "wide", "table", *TABLE_OPTIONS, *FILTERS), ignored
        )
    elif options["force"]:
        raise click.UsageError("--force overwrites a picture; name one with -o")
    if what is not None and what.startswith(PATH_BEGINNINGS):
        if file is not None:
            raise click.UsageError("a capture holds no open files; leave FILE out to ask of now")
        from dunmist.cli.viewing import print_file_users

        print_file_users(what, _output_options(options))
        return
    if file is None:
        refuse_given(context, ("since", "until"), "{} chooses a part of a FILE; name one")
        from dunmist.jobs.quick_sample import quick_sample

        with quick_sample(with_code=topic in WITH_CODE) as path:
            _show(path, topic, what, options)
        return
    _show(CAPTURE.convert(file, None, context), topic, what, options)


def _show(file: Path, topic: str, what: str | None, options: dict[str, Any]) -> None:
    """Judge a capture and show a topic of it as asked."""
    from dunmist.cli import viewing
    from dunmist.jobs.judge import judge, part_of

    part = part_of(file, options["since"], options["until"])
    judged = judge(file, part=part, looks_for_bad_window=False)
    output = _output_options(options)
    if options["output"]:
        viewing.draw(judged, topic, what, options["output"], force=options["force"])
    elif what is not None:
        viewing.print_process(judged, what, output)
    else:
        viewing.print_topic(judged, topic, output, options)


def _is_capture(what: str) -> bool:
    """Whether the word for a process is a capture, after which the process was forgotten."""
    from dunmist.captures import CaptureReader
    from dunmist.errors import DunmistError

    if what == LAST:
        return True
    try:
        with CaptureReader(Path(what)):
            return True
    except (DunmistError, OSError):
        return False


def _output_options(options: dict[str, Any]) -> "OutputOptions":
    from dunmist.cli.viewing import OutputOptions

    return OutputOptions(
        _form(options), _words(options["columns"]), options["wide"], options["pager"]
    )


def _form(options: dict[str, Any]) -> str | None:
    return "json" if options["as_json"] else "csv" if options["as_csv"] else None


def _words(text: str | None) -> list[str] | None:
    return [word.strip() for word in text.split(",")] if text else None
