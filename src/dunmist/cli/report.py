"""``dunmist report``: write the triage report as a file."""

from pathlib import Path

import click

from dunmist.cli.parameters import FILE


@click.command()
@click.argument("file", type=FILE)
@click.option("-o", "--output", type=FILE, required=True, metavar="OUT",
              help="Where to write it; the ending chooses .html, .md, .json or .txt.")  # fmt: skip
@click.option("--force", is_flag=True, help="Overwrite OUT when it exists.")
def report(file: Path, output: Path, force: bool) -> None:
    """Write the triage report of the capture FILE to OUT."""
    from dunmist.captures import check_output
    from dunmist.cli.judging import judge
    from dunmist.reports import check_ending, write_report

    check_ending(output)
    check_output(output, force=force)
    judged = judge(file)
    write_report(judged.series, judged.triage, output)
    click.echo(f"wrote {output}", err=True)
