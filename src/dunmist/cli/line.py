"""``dunmist line``: one line for a status bar or a prompt."""

import json
from contextlib import suppress
from pathlib import Path

import click

from dunmist.cli.parameters import EVERY_MOST_S, Duration

# length of the text shown at once
ONCE_S, EVERY_LEAST_S = 1.0, 0.5


@click.command()
@click.option("--follow", is_flag=True, help="Print a line again and again until Ctrl-C.")
@click.option(
    "--every",
    "every_s",
    type=Duration(EVERY_LEAST_S, EVERY_MOST_S),
    default="2s",
    show_default=True,
    help="With --follow: how far apart.",
)
@click.option("--json", "as_json", is_flag=True, help="Print an object a line.")
def line(follow: bool, every_s: float, as_json: bool) -> None:
    """Print one line: the hottest sensor, a mark for each CPU, the busiest program.

    For a status bar or a prompt; it samples one second, or with --follow every two.
    """
    from dunmist.computer import Root
    from dunmist.harmless import harmless
    from dunmist.jobs.status_line import StatusLine, status_lines
    from dunmist.sampling import SystemClock
    from dunmist.sparklines import curve_text

    def text(now: StatusLine) -> str:
        if as_json:
            return json.dumps(now._asdict())
        heat = "" if now.celsius is None else f"{now.celsius:.0f} °C {harmless(now.sensor or '')}  "
        busiest = f"{harmless(now.program)} {now.cores:.2f} cores" if now.program else "idle"
        return f"{heat}{curve_text(now.busy, 1.0)}  {busiest}"

    # Ctrl-C is how it ends
    with suppress(KeyboardInterrupt):
        for now in status_lines(Root(Path("/")), SystemClock(), every_s if follow else ONCE_S):
            click.echo(text(now))
            if not follow:
                return
