"""What ``dunmist watch`` does once its options are read."""

import sys
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from dunmist.captures import Header
from dunmist.cli.incident_lines import Telling, line_of
from dunmist.cli.remote import transport_of
from dunmist.harmless import harmless
from dunmist.jobs import watch as job
from dunmist.recorder import Kept, Known
from dunmist.sampling import Record

if TYPE_CHECKING:
    from dunmist.cli.watch import WatchOptions

# ten minutes are what a person means by "just now"
RECALLED_S = 600.0


class Lines:
    """Looks at nothing, and says each incident in a line."""

    def __init__(self, tell: Telling) -> None:
        self._tell = tell

    def begin(self, stop: Callable[[], None], header: Header, known: Callable[[], Known]) -> None:
        """Begin; Ctrl-C ends it."""
        del stop, header, known

    def look(self, record: Record, watched: job.Watched | None) -> None:
        """Look at nothing."""
        del record, watched

    def told(self, kept: Kept) -> None:
        """Say an incident."""
        click.echo(harmless(f"incident:{kept.number}  {line_of(kept)}"), err=True)
        self._tell(kept)


def run(options: "WatchOptions", *, plain: bool) -> None:
    """Record until told to end, with a screen where there is a terminal."""
    wanted = job.RecorderOptions(
        options.every_s, options.keep_s, options.most_bytes, options.duration_s, options.root
    )
    target = transport_of(options.host, options.via, sudo=options.sudo)
    telling: Telling = _tell_nobody
    if options.tell:
        from dunmist.jobs.notifications import notify

        telling = notify
    if not plain and sys.stdin.isatty() and sys.stdout.isatty():
        from dunmist.cli.screen import with_screen

        with_screen(wanted, telling, target)
    else:
        job.watch(wanted, Lines(telling), target)


def _tell_nobody(kept: Kept) -> None:
    del kept


def print_incidents() -> None:
    """Print what was kept, the oldest first."""
    kept = job.incidents_kept()
    if not kept:
        click.echo("no incidents so far")
    for incident in kept:
        click.echo(harmless(f"incident:{incident.number}  {line_of(incident)}"))


def send(words: str) -> None:
    """Mark this moment; raises Refused where no recorder listens."""
    job.mark(words)
    click.echo("done")


def recall(since: datetime, span_s: float | None, output: Path, *, force: bool) -> None:
    """Cut a stretch out of the ring; raises CaptureError and OutputError."""
    result = job.recall(since, span_s or RECALLED_S, output, force=force)
    click.echo(
        f"kept {result.path}: {result.ticks} ticks over {result.duration_s:.0f} s from "
        f"{result.started.isoformat(timespec='seconds')}",
        err=True,
    )
