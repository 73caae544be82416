"""The program itself: its commands, and how every failure ends in one line and a status."""

import errno
import gc
import os
import re
import sys
from importlib import import_module
from io import FileIO, RawIOBase, TextIOWrapper

import click

from dunmist import __version__
from dunmist.errors import DunmistError

STANDARD_ERROR = 2
# the variables that say where temporary files go (tempfile)
TEMPORARY = ("TMPDIR", "TEMP", "TMP")
# objects made by imports and by reading are kept: a collection at every 700 new objects finds no
# garbage
OBJECTS_UNTIL_COLLECTED = 50_000
# each command's module and one line of help, so that --help imports none of them
COMMANDS = {
    "desk": "Look, act and report on one screen, for a whole visit.",
    "capture": "Sample this computer into a file.",
    "triage": "Rank the culprits of a capture and say what to do.",
    "view": "Show one topic of a capture, or of now, as a table.",
    "fix": "Show the steps against a culprit, and carry one out on request.",
    "compare": "Say what changed between captures, beyond chance.",
    "report": "Write the triage report as a file.",
    "watch": "Record on and on, and keep what was worth it.",
    "history": "Say who used what over days and months, and what drifts.",
    "line": "Print one line for a status bar: heat, CPUs, busiest program.",
    "collector": "Write a script that samples a computer with nothing but a shell.",
    "fleet": "Triage many captures at once, and say what they have in common.",
    "export": "Write the figures of a capture for other programs.",
    "explain": "Say what a word on the screen means.",
    "demo": "Run a full example on a model computer.",
}


class CommandsOnDemand(click.Group):
    """A group that imports a command's module only when that command is asked for."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the names of all commands in the order of the work."""
        del ctx
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Return a command from its own module; raises UsageError with the nearest right name."""
        if cmd_name in COMMANDS:
            module = import_module(f"dunmist.cli.{cmd_name}")
            command: click.Command = getattr(module, cmd_name)
            return command
        from difflib import get_close_matches

        near = get_close_matches(cmd_name, COMMANDS, n=1)
        hint = f"; did you mean '{near[0]}'?" if near else ""
        raise click.UsageError(f"unknown command '{cmd_name}'{hint}", ctx)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the list of commands from the table, importing none of them."""
        del ctx
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))


@click.group(
    cls=CommandsOnDemand,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"]},
)
@click.version_option(__version__, prog_name="dunmist")
@click.option("-v", "--verbose", is_flag=True, help="Say on standard error what is being done.")
@click.pass_context
def program(context: click.Context, verbose: bool) -> None:
    """Find out why a computer is slow or hot: sample it, rank the culprits, write a report."""
    if context.invoked_subcommand is None:
        click.echo(context.get_help())
        return
    # help and version say nothing else, and do without
    from dunmist.cli.messages import set_up

    set_up(verbose=verbose)


def run() -> None:
    """Run the program and exit with its status: 0 done, 1 could not do it, 2 wrong usage."""
    gc.set_threshold(OBJECTS_UNTIL_COLLECTED)
    _occupy_closed()
    _forget_unsafe_temporary_directory()
    for stream in (sys.stdout, sys.stderr):
        # a terminal that lacks a character shows a stand-in rather than nothing at all
        if isinstance(stream, TextIOWrapper):
            stream.reconfigure(errors="replace")
    status = _status()
    # the interpreter looks through all that is left when it ends, which frees nothing for anybody
    gc.freeze()
    sys.exit(status)


class _Closed(RawIOBase):
    """Standard output that was closed: writing fails, and the failure is reported."""

    def writable(self) -> bool:
        """Say that it may be tried."""
        return True

    def write(self, data: object) -> int:
        """Raise OSError."""
        del data
        return self.fileno()

    def fileno(self) -> int:
        """Raise OSError."""
        raise OSError(errno.EBADF, "standard output is closed")


def _forget_unsafe_temporary_directory() -> None:
    """As root, put temporary files where nobody else chose, whatever the environment says."""
    given = [name for name in TEMPORARY if name in os.environ]
    if not given or os.geteuid() != 0:
        return
    from pathlib import Path

    from dunmist.trusted_paths import Untrusted, check_directory

    for name in given:
        try:
            check_directory(Path(os.environ[name]))
        except Untrusted:
            del os.environ[name]


def _occupy_closed() -> None:
    """Fill the places of closed standard files, so that no file of ours takes one of them."""
    # low numbers are given first
    while (descriptor := os.open(os.devnull, os.O_RDWR)) <= STANDARD_ERROR:
        pass
    os.close(descriptor)
    if sys.stdout is None:
        sys.stdout = TextIOWrapper(_Closed(), write_through=True)
    if sys.stderr is None:
        sys.stderr = TextIOWrapper(FileIO(os.devnull, "w"), write_through=True)


def _status() -> int:
    try:
        done = program.main(prog_name="dunmist", standalone_mode=False)
        sys.stdout.flush()
        # a command whose answer is its status gives that
        return done if isinstance(done, int) else 0
    except click.exceptions.Abort:
        return _fail("stopped before it was done", 1)
    except click.exceptions.Exit as stop:
        return stop.exit_code
    except click.ClickException as error:
        context = getattr(error, "ctx", None)
        path = context.command_path.rstrip() if context else "dunmist"
        return _fail(f"{_usage_message(error)} (see '{path} --help')", 2)
    except DunmistError as error:
        return _fail(str(error), error.exit_status)
    except BrokenPipeError:
        # the reader of standard output has seen enough; nothing may be flushed to it at exit
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        if isinstance(getattr(sys.stdout, "buffer", None), _Closed):
            sys.stdout = TextIOWrapper(FileIO(os.devnull, "w"))
        where = f"{error.filename}: " if error.filename else ""
        return _fail(f"{where}{error.strerror or error}; check the path and try again", 1)


def _usage_message(error: click.ClickException) -> str:
    """Return the error message with its option or argument."""
    message = error.format_message().rstrip(".")
    if isinstance(error, click.MissingParameter):
        param = error.param
        is_option = isinstance(param, click.Option)
        name = param.opts[0] if is_option and param else getattr(param, "human_readable_name", "")
        return f"{name if is_option else name.upper()} is missing"
    # click puts words around the option, and the reason names the value already
    return re.sub(r"^Invalid value for '([^']+)': ", r"\1: ", message)


def _fail(message: str, status: int) -> int:
    from dunmist.harmless import harmless

    click.echo(f"dunmist: {harmless(' '.join(message.split()))}", err=True)
    return status
