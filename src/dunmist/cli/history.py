"""``dunmist history``: who used what over days and months, and what drifts."""

from pathlib import Path
from typing import TYPE_CHECKING, cast

import click

from dunmist.cli.parameters import FILE

if TYPE_CHECKING:
    from dunmist.history.usage import By

WAYS = ("cpu", "memory", "disk", "network", "energy")
DAYS_MOST = 400


@click.command()
@click.argument("name", required=False)
@click.option(
    "--days",
    type=click.FloatRange(1 / 24, DAYS_MOST),
    default=7.0,
    show_default=True,
    metavar="N",
    help="How far back.",
)
@click.option(
    "--by",
    type=click.Choice(WAYS),
    default="cpu",
    show_default=True,
    help="What programs are compared by.",
)
@click.option(
    "--file", "given", type=FILE, metavar="FILE", help="Another history than that of this computer."
)
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
@click.option(
    "-o",
    "--output",
    type=FILE,
    metavar="OUT",
    help="Write OUT.png or OUT.svg, a page, or OUT.csv or OUT.parquet with all hours.",
)
@click.option("--force", is_flag=True, help="Overwrite OUT when it exists.")
@click.option("--forget", is_flag=True, help="Delete the history of this computer.")
def history(
    name: str | None,
    days: float,
    by: str,
    given: Path | None,
    as_json: bool,
    output: Path | None,
    force: bool,
    forget: bool,
) -> None:
    """Say who used what over days and months, and what drifts: all, or program NAME.

    'dunmist watch' keeps the history: hourly sums of programs and resources, for 400 days. Command
    lines, paths and peers are not kept. 'history = false' in settings.toml keeps none.
    """
    from dunmist.jobs.settings import history_path

    if forget:
        if given is not None:
            raise click.UsageError("--forget is for the history of this computer; leave out --file")
        _forget(history_path())
        return
    from dunmist.advice import HistoryQuestion
    from dunmist.jobs.view_history import history_of
    from dunmist.output import check_output
    from dunmist.reports import document_text, history_document, history_json

    if output is not None:
        check_output(output, force=force)
    asked = HistoryQuestion(days, cast("By", by), name)
    report, periods = history_of(given, asked)
    if output is not None:
        from dunmist.reports.write_history import write_history

        write_history(report, periods, output, force=force)
        click.echo(f"wrote {output}", err=True)
        return
    text = history_json(report) if as_json else document_text(history_document(report))
    click.echo(text, nl=False)


def _forget(path: Path) -> None:
    from dunmist.history import forget

    if forget(path):
        click.echo(f"deleted {path}")
    else:
        click.echo(f"there is no history at {path}")
