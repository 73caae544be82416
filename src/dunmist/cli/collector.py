"""``dunmist collector``: the collector as one file, for a computer without a network."""

from pathlib import Path

import click

from dunmist.cli.parameters import EVERY_LEAST_S, EVERY_MOST_S, FILE, FOR_MOST_S, Duration


@click.command()
@click.option(
    "-o",
    "--output",
    type=FILE,
    metavar="SCRIPT",
    required=True,
    help="Where to write the script; '-' is standard output.",
)
@click.option(
    "--for",
    "duration_s",
    type=Duration(EVERY_LEAST_S, FOR_MOST_S),
    default="30s",
    show_default=True,
    help="How long it is to sample.",
)
@click.option(
    "--every",
    "every_s",
    type=Duration(EVERY_LEAST_S, EVERY_MOST_S),
    default="1s",
    show_default=True,
    help="How often.",
)
@click.option("--force", is_flag=True, help="Overwrite SCRIPT when it exists.")
def collector(output: Path, duration_s: float, every_s: float, force: bool) -> None:
    """Write a script that samples a computer with nothing but a shell.

    The person there runs 'sh SCRIPT' and sends the one file that it leaves; triage, report, view
    and 'capture --from' take it.
    """
    from dunmist.output import check_output, write_whole
    from dunmist.remote import script_to_carry

    script = script_to_carry(round(duration_s / every_s), every_s)
    if str(output) == "-":
        click.echo(script, nl=False)
        return
    check_output(output, force=force)
    write_whole(output, script.encode(), force=force)
    click.echo(f"wrote {output}; there: sh {output.name}", err=True)
