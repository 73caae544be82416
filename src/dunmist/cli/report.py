"""``dunmist report``: write the triage report as a file."""

from datetime import time
from pathlib import Path

import click

from dunmist.cli.parameters import (
    CAPTURE,
    FILE,
    complaint_option,
    history_option,
    normal_option,
    part_options,
)

STANDARD = Path("-")


@click.command()
@click.argument("file", type=CAPTURE)
@click.option(
    "-o",
    "--output",
    type=FILE,
    metavar="OUT",
    help="Where to write it; the ending chooses .html, .pdf, .md, .txt or .json, "
    "'-' is text on standard output.",
)
@click.option("--force", is_flag=True, help="Overwrite OUT when it exists.")
@click.option("--brief", is_flag=True, help="Five lines for a phone call or a ticket's title.")
@click.option(
    "--full", is_flag=True, help="With all figures in a PDF too, which else has three pages."
)
@click.option(
    "--audience",
    type=click.Choice(["technician", "owner"]),
    default="technician",
    show_default=True,
    help="Reader that it is written for.",
)
@complaint_option
@normal_option
@history_option
@part_options
@click.option(
    "--share",
    is_flag=True,
    help="Replace names of people and hosts, homes and addresses by stand-ins, and leave "
    "out command lines. A copy of the capture with the same changes is written next to "
    "OUT.",
)
@click.option(
    "--arguments",
    is_flag=True,
    help="With --share: keep what programs were called with; names in it are replaced "
    "where they are known.",
)
def report(
    file: Path,
    output: Path | None,
    force: bool,
    brief: bool,
    full: bool,
    audience: str,
    complaints: tuple[str, ...],
    normal: tuple[Path, ...],
    history: Path | None,
    since: float | time | None,
    until: float | time | None,
    share: bool,
    arguments: bool,
) -> None:
    """Write the triage report of the capture FILE to OUT."""
    if output is None and not brief:
        raise click.UsageError("say where to write the report: -o OUT, or -o - for text")
    if arguments and not share:
        raise click.UsageError("--arguments says what a shared copy keeps; add --share")
    if brief and audience == "owner":
        raise click.UsageError("--brief is for the ticket; leave out --audience owner")
    if complaints and (brief or audience == "owner"):
        raise click.UsageError("--complaint is answered in the technician's report; leave it out")
    if normal and (brief or share or audience == "owner"):
        raise click.UsageError("--normal is for the technician's own report; leave it out")
    if history and (brief or share or audience == "owner"):
        raise click.UsageError("--history is for the technician's own report; leave it out")
    if full and (brief or audience == "owner"):
        raise click.UsageError("--full is for the technician's report; leave it out")
    from dunmist.cli import reporting

    options = reporting.ReportOptions(
        output or STANDARD,
        brief,
        audience == "owner",
        force,
        complaints,
        since,
        until,
        normal,
        full,
        history,
    )
    if share:
        reporting.write_shared(file, options, arguments=arguments)
    else:
        reporting.write(file, options)
