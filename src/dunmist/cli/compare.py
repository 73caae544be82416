"""``dunmist compare``: what changed beyond noise, and what is not as usual."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from dunmist.cli.parameters import CAPTURE, normal_option

if TYPE_CHECKING:
    from dunmist.compare import Match

EXPECTED = {"better": ("better",), "worse": ("worse",), "usual": ("as usual",)}


@click.command()
@click.argument(
    "places", metavar="BEFORE AFTER | NORMAL… NOW", type=CAPTURE, nargs=-1, required=True
)
@normal_option
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
    places: tuple[Path, ...],
    normal: tuple[Path, ...],
    match: "Match",
    as_json: bool,
    expect: str | None,
) -> None:
    """Say what changed from the capture BEFORE to the one AFTER, beyond chance.

    With a folder, three captures and more, or --normal: what in the last one is not as this
    computer usually is.
    """
    from dunmist.jobs.comparison import answer, question_of
    from dunmist.reports import comparison_document, comparison_json, document_text

    result = answer(question_of(places, normal, match))
    text = comparison_json(result) if as_json else document_text(comparison_document(result))
    click.echo(text, nl=False)
    if expect and result.answer not in EXPECTED[expect]:
        context.exit(1)
