"""``dunmist export``: the figures of a capture for other programs."""

from datetime import time
from pathlib import Path

import click

from dunmist.cli.parameters import CAPTURE, FILE, part_options


@click.command()
@click.argument("file", type=CAPTURE)
@click.option(
    "-o",
    "--output",
    type=FILE,
    metavar="OUT",
    help="Where to write them; the ending chooses .parquet, .csv, .om (OpenMetrics) or "
    ".otlp.json, a folder gets all tables as Parquet.",
)
@click.option(
    "--to",
    "address",
    metavar="URL",
    help="Send them as OTLP over HTTP, to http://host:4318/v1/metrics.",
)
@part_options
@click.option(
    "--share",
    is_flag=True,
    help="Replace names of people and hosts, homes and addresses by stand-ins, and leave "
    "out what programs were called with.",
)
@click.option("--force", is_flag=True, help="Overwrite OUT when it exists.")
def export(
    file: Path,
    output: Path | None,
    address: str | None,
    since: float | time | None,
    until: float | time | None,
    share: bool,
    force: bool,
) -> None:
    """Write the figures of the capture FILE in a form that other programs read.

    Metrics have the names of the OpenTelemetry semantic conventions, times are the patient's wall
    clock.
    """
    if output is None and address is None:
        raise click.UsageError("say where they go: -o OUT, or --to URL")
    from dunmist.cli import exporting

    options = exporting.ExportOptions(output, address, since, until, share, force)
    exporting.export_file(file, options)
