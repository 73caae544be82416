"""``dunmist compare``: what changed beyond noise, and what is not as usual."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from dunmist.cli.parameters import CAPTURE, PointInTimeType, normal_option

if TYPE_CHECKING:
    from dunmist.compare import Match
    from dunmist.jobs.judge import PointInTime

EXPECTED = {"better": ("better",), "worse": ("worse",), "usual": ("as usual",)}


@click.command()
@click.argument(
    "paths", metavar="BEFORE AFTER | NORMAL… NOW", type=CAPTURE, nargs=-1, required=True
)
@normal_option
@click.option(
    "--around",
    type=PointInTimeType(),
    metavar="TIME",
    help="Of one capture: before and after TIME, which is 90s or 5m after its beginning, or "
    "14:02 by the patient's clock.",
)
@click.option(
    "--match",
    type=click.Choice(["both", "host", "hardware", "any"]),
    default="both",
    show_default=True,
    help="What captures of one computer have in common: host name, "
    "hardware, both, or nothing that matters.",
)
@click.option("--json", "as_json", is_flag=True, help="Print the comparison as JSON.")
@click.option(
    "--expect",
    type=click.Choice(list(EXPECTED)),
    help="Make the answer the exit status: 0 where it is this one, else 1.",
)
@click.pass_context
def compare(
    context: click.Context,
    /,
    paths: tuple[Path, ...],
    normal: tuple[Path, ...],
    around: "PointInTime | None",
    match: "Match",
    as_json: bool,
    expect: str | None,
) -> None:
    """Say what changed from the capture BEFORE to the one AFTER, beyond chance.

    With --around: within one capture.

    With a folder, three captures and more, or --normal: what in the last one is not as this
    computer usually is. BEFORE may be history:7d, the last seven days of its history.
    """
    from dunmist.jobs.comparison import answer, compare_around, question_of
    from dunmist.reports import comparison_document, comparison_json, document_text

    if around is not None and (len(paths) > 1 or normal):
        raise click.UsageError("--around is of one capture; leave the others out")
    if around is not None:
        result = compare_around(paths[0], around)
    else:
        result = answer(question_of(paths, normal, match))
    text = comparison_json(result) if as_json else document_text(comparison_document(result))
    click.echo(text, nl=False)
    if expect and result.answer not in EXPECTED[expect]:
        context.exit(1)
