"""``dunmist watch``: the flight recorder."""

from datetime import datetime
from pathlib import Path
from typing import NamedTuple

import click

from dunmist.cli.parameters import (
    EVERY_MOST_S,
    FILE,
    FOR_MOST_S,
    Duration,
    Instant,
    Size,
    far_options,
)

# a recorder runs for days and must cost hardly anything
EVERY_LEAST_S = 0.5


class WatchOptions(NamedTuple):
    """How a recorder is to run."""

    every_s: float
    keep_s: float
    most_bytes: int
    duration_s: float | None
    root: Path
    tell: bool
    host: str | None = None
    sudo: bool = False


@click.command()
@click.option("--every", "every_s", type=Duration(EVERY_LEAST_S, EVERY_MOST_S), default="2s",
              show_default=True, help="How far apart the ticks are.")  # fmt: skip
@click.option("--keep", "keep_s", type=Duration(300.0, FOR_MOST_S), default="60m",
              show_default=True, help="How long is kept; the oldest goes first.")  # fmt: skip
@click.option("--most", "most_bytes", type=Size(), default="64MiB", show_default=True,
              help="How many bytes it may take.")  # fmt: skip
@click.option("--for", "duration_s", type=Duration(1.0, FOR_MOST_S), metavar="DURATION",
              help="End by itself; with --recall, how long a stretch.")  # fmt: skip
@click.option("--incidents", is_flag=True, help="List what was kept, and do nothing else.")
@click.option("--mark", "words", metavar="TEXT",
              help="Tell the recorder that runs here that something is wrong now.")  # fmt: skip
@click.option("--recall", "recalled", type=Instant(), metavar="TIME",
              help="Cut a stretch from TIME on (14:02, or a date with it) into a "
              "capture.")  # fmt: skip
@click.option("-o", "--output", type=FILE, metavar="FILE", help="With --recall: the capture.")
@click.option("--force", is_flag=True, help="Overwrite FILE when it exists.")
@click.option("--plain", is_flag=True, help="No screen: one line for each incident.")
@click.option("--tell", is_flag=True, help="Tell the person at the screen of each incident.")
@click.option("--install", is_flag=True, help="Have the service manager run the recorder.")
@click.option("--remove", is_flag=True, help="Take it away again.")
@click.option("--plan", metavar="NAME",
              help="With --install or --remove: a planned collection instead of the "
              "recorder.")  # fmt: skip
@click.option("--at", type=Instant(ahead=True), metavar="TIME",
              help="With --plan: when it begins; --for says how long it takes.")  # fmt: skip
@click.option("--every-day", is_flag=True, help="With --plan: at that time of every day.")
@click.option("--user", is_flag=True, help="With --install or --remove: yours, not the system's.")
@click.option("--yes", is_flag=True, help="With --install or --remove: do it without asking.")
@far_options
@click.option("--root", type=click.Path(path_type=Path, exists=True, file_okay=False),
              default=Path("/"), hidden=True)  # fmt: skip
def watch(
    every_s: float, keep_s: float, most_bytes: int, duration_s: float | None, incidents: bool,
    words: str | None, recalled: datetime | None, output: Path | None, force: bool, plain: bool,
    tell: bool, install: bool, remove: bool, plan: str | None, at: datetime | None,
    every_day: bool, user: bool, yes: bool, host: str | None, sudo: bool, root: Path,
) -> None:  # fmt: skip
    """Record on and on into a ring below the state directory, and keep what is worth it.

    An incident begins when a resource is strained for some seconds, memory runs out or heat cuts
    the clock. A program that hangs and a mark (--mark) begin one as well. The minutes around it
    become a capture of their own: 'dunmist triage incident:3'. Ctrl-C ends the recording.
    """
    chosen = [option for option, given in (("--incidents", incidents), ("--mark", words),
                                           ("--recall", recalled), ("--install", install),
                                           ("--remove", remove)) if given]  # fmt: skip
    if len(chosen) > 1:
        raise click.UsageError(f"{' and '.join(chosen)} are different things; give one of them")
    if bool(recalled) != bool(output):
        raise click.UsageError("--recall TIME and -o FILE go together")
    if (plan or user or yes) and not (install or remove):
        raise click.UsageError("--plan, --user and --yes go with --install or --remove")
    if install and bool(plan) != bool(at):
        raise click.UsageError("--plan NAME and --at TIME go together")
    wanted = WatchOptions(every_s, keep_s, most_bytes, duration_s, root, tell, host, sudo)
    if host is not None and chosen:
        raise click.UsageError(f"{chosen[0]} is of this computer; leave it out with --on")
    from dunmist.cli import watching

    if install or remove:
        from dunmist.cli import installing

        unit = installing.Wanted(plan, at, every_day=every_day, own=user)
        (installing.install if install else installing.remove)(unit, wanted, asks=not yes)
        return
    if incidents:
        watching.print_incidents()
    elif words is not None:
        watching.send(words)
    elif recalled is not None and output is not None:
        watching.recall(recalled, duration_s, output, force=force)
    else:
        watching.run(wanted, plain=plain)
