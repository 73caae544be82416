"""Show progress while sampling runs, on a terminal only.

What this takes is loaded after the first tick, and not at all where nobody would see it.
"""

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from dunmist.computer import Machine
    from dunmist.jobs.capture import RecordSink
    from dunmist.sampling import Observer, Plan


@contextmanager
def progress_for(
    plan: "Plan", observer: "Observer | None", machine: "Machine"
) -> Iterator["RecordSink"]:
    """Give what shows each record of a capture; it shows nothing where there is no terminal."""
    if not sys.stderr.isatty():
        yield lambda record: None
        return
    from rich.console import Console
    from rich.live import Live

    from dunmist.cli.progress_lines import Progress

    with Live(console=Console(stderr=True), auto_refresh=False, transient=True) as live:
        yield Progress(live, plan, observer, machine).add
