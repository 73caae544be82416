"""Run ``dunmist watch`` after its options are read."""

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from dunmist.cli.incident_lines import line_of
from dunmist.errors import Refused
from dunmist.harmless import harmless
from dunmist.jobs import watch as job
from dunmist.recorder import Kept

if TYPE_CHECKING:
    from dunmist.cli.watch import WatchOptions

# ten minutes are what a person means by "just now"
RECALLED_S = 600.0


def run(options: "WatchOptions") -> None:
    """Record until asked to end, with a line for each incident."""
    wanted = job.RecorderOptions(
        options.every_s, options.keep_s, options.most_bytes, options.duration_s, options.root
    )
    job.watch(wanted, _notifier(options), options.remote.transport())


def _notifier(options: "WatchOptions") -> job.IncidentSink:
    """Return a sink that prints each incident in a line, and notifies the person if wanted."""

    def report(kept: Kept) -> None:
        click.echo(harmless(f"incident:{kept.number}  {line_of(kept)}"), err=True)
        if options.tell:
            from dunmist.jobs.notifications import notify

            notify(kept)

    return report


def run_with_screen(options: "WatchOptions") -> None:
    """Open the desk on what is recorded; a recorder that runs already goes on afterwards."""
    from dunmist.cli.desk import has_screen, show_desk
    from dunmist.desk.recorder_visit import RecorderVisit, recorder_words
    from dunmist.desk.visit import VisitOptions, new_folder
    from dunmist.jobs.settings import state_directory

    if not has_screen():
        raise click.UsageError("--screen needs a terminal; leave it out for lines of text")
    target = options.remote.words()
    visit_options = VisitOptions(new_folder(state_directory() / "visits"), options.every_s, target)
    words = recorder_words(options.every_s, options.keep_s, options.most_bytes, options.duration_s)
    if options.tell:
        words.append("--tell")
    is_running = job.is_recorded()
    if is_running and target:
        raise Refused("a recorder runs here already; it records this computer: leave out --on")
    wanted = None if is_running else words
    show_desk(RecorderVisit(visit_options, job.ring_directory(), wanted, job.is_recorded))


def print_incidents() -> None:
    """Print what was kept, the oldest first."""
    kept = job.incidents_kept()
    if not kept:
        click.echo("no incidents so far")
    for incident in kept:
        click.echo(harmless(f"incident:{incident.number}  {line_of(incident)}"))


def send(words: str) -> None:
    """Mark the present time; raises Refused where no recorder listens."""
    job.mark(words)
    click.echo("done")


def recall(since: datetime, span_s: float | None, output: Path, *, force: bool) -> None:
    """Cut a window out of the ring; raises CaptureError and OutputError."""
    result = job.recall(since, span_s or RECALLED_S, output, force=force)
    click.echo(
        f"kept {result.path}: {result.ticks} ticks over {result.duration_s:.0f} s from "
        f"{result.started.isoformat(timespec='seconds')}",
        err=True,
    )
