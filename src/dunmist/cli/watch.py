"""``dunmist watch``: the flight recorder."""

from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any, NamedTuple

import click

from dunmist.cli.group import GroupWithDefault, say_new_spelling
from dunmist.cli.parameters import EVERY_MOST_S, FILE, FOR_MOST_S, Duration, Instant, Size
from dunmist.cli.remote_options import FLAGS_TEXT, RemoteTarget, remote_options

# a recorder runs for days and must cost hardly anything
EVERY_LEAST_S = 0.5


class WatchOptions(NamedTuple):
    """Options of a recorder."""

    every_s: float
    keep_s: float
    most_bytes: int  # size of the ring on disk
    duration_s: float | None  # None until it is stopped
    root: Path  # parent directory of proc, sys and etc
    tell: bool  # notify the person at the screen
    remote: RemoteTarget = RemoteTarget()


@click.group(cls=GroupWithDefault)
def watch() -> None:
    """Record on and on into a ring, and keep what is worth it.

    An incident begins when a resource is strained for some seconds, memory runs out or heat cuts
    the clock. A program that hangs and a mark begin one as well. The minutes around it become a
    capture of their own: 'dunmist triage incident:3'. 'dunmist watch' is 'dunmist watch run'.
    """


def ring_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options that say how a recorder records."""
    for option in (
        click.option("--tell", is_flag=True, help="Tell the person at the screen of incidents."),
        click.option(
            "--most",
            "most_bytes",
            type=Size(),
            default="64MiB",
            show_default=True,
            help="How many bytes it may take.",
        ),
        click.option(
            "--keep",
            "keep_s",
            type=Duration(300.0, FOR_MOST_S),
            default="60m",
            show_default=True,
            help="How long is kept; the oldest goes first.",
        ),
        click.option(
            "--every",
            "every_s",
            type=Duration(EVERY_LEAST_S, EVERY_MOST_S),
            default="2s",
            show_default=True,
            help="How far apart the ticks are.",
        ),
    ):
        command = option(command)
    return command


def unit_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options that say whose the units are."""
    command = click.option("--yes", is_flag=True, help="Do it without asking.")(command)
    return click.option("--user", is_flag=True, help="Yours, not the system's.")(command)


@watch.command(name="run")
@ring_options
@click.option("--for", "duration_s", type=Duration(1.0, FOR_MOST_S), help="End by itself.")
@click.option("--screen", is_flag=True, help="Show what is recorded on a screen (see 'desk').")
@click.option("--plain", is_flag=True, hidden=True)
@remote_options
def run_recorder(
    every_s: float,
    keep_s: float,
    most_bytes: int,
    duration_s: float | None,
    screen: bool,
    plain: bool,
    tell: bool,
    remote: RemoteTarget,
) -> None:
    """Record on and on, with a line for each incident; Ctrl-C ends it."""
    from dunmist.cli import watching

    recorder_options = WatchOptions(
        every_s, keep_s, most_bytes, duration_s, Path("/"), tell, remote
    )
    if screen and not plain:
        watching.run_with_screen(recorder_options)
    else:
        watching.run(recorder_options)


@watch.command(name="list")
def list_incidents() -> None:
    """List what was kept."""
    from dunmist.cli import watching

    watching.print_incidents()


@watch.command()
@click.argument("text")
def mark(text: str) -> None:
    """Say TEXT to the recorder: something is wrong now."""
    from dunmist.cli import watching

    watching.send(text)


@watch.command()
@click.argument("time", type=Instant())
@click.option("-o", "--output", type=FILE, required=True, help="The capture.")
@click.option("--for", "duration_s", type=Duration(1.0, FOR_MOST_S), help="How long a part.")
@click.option("--force", is_flag=True, help="Overwrite FILE when it exists.")
def recall(time: datetime, output: Path, duration_s: float | None, force: bool) -> None:
    """Cut a part from TIME on into a capture.

    TIME is 14:02, or has a date with it.
    """
    from dunmist.cli import watching

    watching.recall(time, duration_s, output, force=force)


@watch.command()
@ring_options
@unit_options
def install(
    every_s: float, keep_s: float, most_bytes: int, tell: bool, user: bool, yes: bool
) -> None:
    """Have the service manager run the recorder."""
    from dunmist.cli import installing

    recorder_options = WatchOptions(every_s, keep_s, most_bytes, None, Path("/"), tell)
    installing.install(
        installing.InstalledUnit(None, None, False, user), recorder_options, asks=not yes
    )


@watch.command()
@click.option("--plan", metavar="NAME", help="A planned collection, not the recorder.")
@unit_options
def remove(plan: str | None, user: bool, yes: bool) -> None:
    """Take away what was installed."""
    from dunmist.cli import installing

    installing.remove(installing.InstalledUnit(plan, None, False, user), asks=not yes)


@watch.command()
@click.argument("name")
@click.option(
    "--at", type=Instant(ahead=True), required=True, metavar="TIME", help="When it begins."
)
@click.option("--for", "duration_s", type=Duration(1.0, FOR_MOST_S), help="How long it takes.")
@click.option("--every-day", is_flag=True, help="At that time of every day.")
@unit_options
def plan(
    name: str, at: datetime, duration_s: float | None, every_day: bool, user: bool, yes: bool
) -> None:
    """Take a capture at a time, by the service manager.

    'dunmist watch remove --plan NAME' takes it back.
    """
    from dunmist.cli import installing

    recorder_options = _USUAL._replace(duration_s=duration_s)
    installing.install(
        installing.InstalledUnit(name, at, every_day, user), recorder_options, asks=not yes
    )


# options of an earlier version, and the commands that took their place
NEW_WORDS = {
    "--incidents": "list",
    "--mark": "mark TEXT",
    "--recall": "recall TIME -o FILE",
    "--install": "install, or plan NAME --at TIME",
    "--remove": "remove",
}
# how a recorder runs of which nothing else is said
_USUAL = WatchOptions(2.0, 3600.0, 64 << 20, None, Path("/"), tell=False)


@watch.command(name=GroupWithDefault.DEFAULT, hidden=True)
@click.option(
    "--every",
    "every_s",
    type=Duration(EVERY_LEAST_S, EVERY_MOST_S),
    default="2s",
    show_default=True,
    help="How far apart the ticks are.",
)
@click.option(
    "--keep",
    "keep_s",
    type=Duration(300.0, FOR_MOST_S),
    default="60m",
    show_default=True,
    help="How long is kept; the oldest goes first.",
)
@click.option(
    "--most",
    "most_bytes",
    type=Size(),
    default="64MiB",
    show_default=True,
    help="How many bytes it may take.",
)
@click.option(
    "--for",
    "duration_s",
    type=Duration(1.0, FOR_MOST_S),
    metavar="DURATION",
    help="End by itself; with --recall, the length of the window.",
)
@click.option("--incidents", is_flag=True, help="List what was kept, and do nothing else.")
@click.option(
    "--mark",
    "words",
    metavar="TEXT",
    help="Tell the recorder that runs here that something is wrong now.",
)
@click.option(
    "--recall",
    "recalled",
    type=Instant(),
    metavar="TIME",
    help="Cut a window from TIME on (14:02, or a date with it) into a capture.",
)
@click.option("-o", "--output", type=FILE, metavar="FILE", help="With --recall: the capture.")
@click.option("--force", is_flag=True, help="Overwrite FILE when it exists.")
@click.option("--plain", is_flag=True, help="One line for each incident, as without it.")
@click.option("--tell", is_flag=True, help="Tell the person at the screen of each incident.")
@click.option("--install", is_flag=True, help="Have the service manager run the recorder.")
@click.option("--remove", is_flag=True, help="Take it away again.")
@click.option(
    "--plan",
    metavar="NAME",
    help="With --install or --remove: a planned collection instead of the recorder.",
)
@click.option(
    "--at",
    type=Instant(ahead=True),
    metavar="TIME",
    help="With --plan: when it begins; --for says how long it takes.",
)
@click.option("--every-day", is_flag=True, help="With --plan: at that time of every day.")
@click.option("--user", is_flag=True, help="With --install or --remove: yours, not the system's.")
@click.option("--yes", is_flag=True, help="With --install or --remove: do it without asking.")
@remote_options
@click.option(
    "--root",
    type=click.Path(path_type=Path, exists=True, file_okay=False),
    default=Path("/"),
    hidden=True,
)
def as_before(
    every_s: float,
    keep_s: float,
    most_bytes: int,
    duration_s: float | None,
    incidents: bool,
    words: str | None,
    recalled: datetime | None,
    output: Path | None,
    force: bool,
    plain: bool,
    tell: bool,
    install: bool,
    remove: bool,
    plan: str | None,
    at: datetime | None,
    every_day: bool,
    user: bool,
    yes: bool,
    remote: RemoteTarget,
    root: Path,
) -> None:
    """Record, or do what one of the options says."""
    chosen = [
        option
        for option, given in (
            ("--incidents", incidents),
            ("--mark", words),
            ("--recall", recalled),
            ("--install", install),
            ("--remove", remove),
        )
        if given
    ]
    del plain  # there is no other way now
    if len(chosen) > 1:
        raise click.UsageError(f"{' and '.join(chosen)} are different things; give one of them")
    if bool(recalled) != bool(output):
        raise click.UsageError("--recall TIME and -o FILE go together")
    if (plan or user or yes) and not (install or remove):
        raise click.UsageError("--plan, --user and --yes go with --install or --remove")
    if install and bool(plan) != bool(at):
        raise click.UsageError("--plan NAME and --at TIME go together")
    recorder_options = WatchOptions(every_s, keep_s, most_bytes, duration_s, root, tell, remote)
    if remote and chosen:
        raise click.UsageError(f"{chosen[0]} is of this computer; leave it out with {FLAGS_TEXT}")
    from dunmist.cli import watching

    if install:
        from dunmist.cli import installing

        unit = installing.InstalledUnit(plan, at, every_day=every_day, own=user)
        installing.install(unit, recorder_options, asks=not yes)
    elif remove:
        from dunmist.cli import installing

        unit = installing.InstalledUnit(plan, at, every_day=every_day, own=user)
        installing.remove(unit, asks=not yes)
    elif incidents:
        watching.print_incidents()
    elif words is not None:
        watching.send(words)
    elif recalled is not None and output is not None:
        watching.recall(recalled, duration_s, output, force=force)
    else:
        watching.run(recorder_options)
    if chosen:
        say_new_spelling(f"dunmist watch {NEW_WORDS[chosen[0]]}")
