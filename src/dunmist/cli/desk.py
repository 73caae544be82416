"""``dunmist desk``: one screen for the whole visit."""

import os
import signal
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from dunmist.cli.parameters import (
    CAPTURE,
    EVERY_MOST_S,
    FILE,
    Duration,
    complaint_option,
    refuse_given,
)
from dunmist.cli.remote_options import REMOTE_PARAMETERS, RemoteTarget, remote_options

if TYPE_CHECKING:
    from dunmist.desk.visit import Visit

EVERY_LEAST_S = 0.2
# they show 256 colours, whatever number their name has
MANY_COLOURS = ("xterm", "screen", "tmux", "rxvt")


@click.command()
@click.argument("file", type=CAPTURE, required=False)
@remote_options
@click.option(
    "--root",
    type=FILE,
    metavar="DIR",
    help="Sample the computer whose proc, sys and etc lie under DIR.",
)
@click.option(
    "--every",
    "every_s",
    type=Duration(EVERY_LEAST_S, EVERY_MOST_S),
    default="1s",
    show_default=True,
    help="How often to sample; + and - change it.",
)
@complaint_option
@click.option("--note", metavar="TEXT", help="The complaint in their own words.")
@click.option(
    "-o",
    "--output",
    "folder",
    type=FILE,
    metavar="DIR",
    help="Where to keep the visit; without it a folder below the user's state.",
)
@click.option("--plain", is_flag=True, help="Lines of text instead of a screen.")
@click.pass_context
def desk(
    context: click.Context,
    /,
    file: Path | None,
    remote: RemoteTarget,
    root: Path | None,
    every_s: float,
    complaints: tuple[str, ...],
    note: str | None,
    folder: Path | None,
    plain: bool,
) -> None:
    """Look, act and report on one screen: this computer, another one, or FILE.

    Without FILE it samples at once. The visit is kept in a folder: captures, reports, what was
    done. Keys stand at the bottom; '?' explains them. On leaving, a line for the ticket is printed.
    """
    if file is not None:
        ignored = "a capture is looked at as it is; leave out {}"
        refuse_given(context, (*REMOTE_PARAMETERS, "root", "every_s"), ignored)
    remote.transport()  # reports wrong options before a screen is drawn
    from dunmist.desk.visit import Visit, VisitOptions, new_folder
    from dunmist.jobs.settings import journal_path, state_directory

    options = VisitOptions(
        folder or new_folder(state_directory() / "visits"),
        every_s,
        (*remote.words(), *_root_words(root)),
        complaints,
        note,
        file,
        journal_path(),
    )
    show_desk(Visit(options), plain=plain)


def show_desk(visit: "Visit", *, plain: bool = False) -> None:
    """Show a visit on the screen until it ends, or as lines where there is none.

    Raises UnreadableComputer where sampling never began.
    """
    from dunmist.jobs.settings import thresholds_path
    from dunmist.thresholds import load_thresholds

    limits = load_thresholds(thresholds_path())
    with visit:
        if plain or not has_screen():
            from dunmist.desk.plain import print_lines

            print_lines(visit, limits, click.echo)
            return
        if os.environ.get("TERM", "").startswith(MANY_COLOURS):
            # with sixteen colours a level would be yellow, which no light terminal shows
            os.environ.setdefault("TEXTUAL_COLOR_SYSTEM", "256")
        from dunmist.desk.app import DeskApp
        from dunmist.desk.priority import RAISED_BY, raise_priority

        # a screen without its terminal has no reason to go on, also under nohup(1)
        signal.signal(signal.SIGHUP, signal.SIG_DFL)
        visit.raised_by = RAISED_BY if raise_priority() else 0
        app = DeskApp(visit, limits)
        line = app.run()
        if app.never_begun is not None:
            raise app.never_begun
    click.echo(line or "the visit ended")
    if kept := visit.kept_text():
        click.echo(kept, err=True)


def _root_words(root: Path | None) -> tuple[str, ...]:
    # a child has another working directory
    return () if root is None else ("--root", str(root.absolute()))


def has_screen() -> bool:
    """Whether there is a terminal that a screen can be drawn on."""
    encoding = (sys.stdout.encoding or "").lower().replace("-", "")
    is_terminal = sys.stdin.isatty() and sys.stdout.isatty()
    return is_terminal and encoding == "utf8" and os.environ.get("TERM", "dumb") != "dumb"
