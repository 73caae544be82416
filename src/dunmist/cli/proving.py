"""Print and ask what ``dunmist fix --prove`` needs."""

import click

from dunmist.advice import describe_unprovable, percent
from dunmist.cli.fix_actions import agrees, process_lines, refusal_of, say
from dunmist.cli.progress import progress_for
from dunmist.errors import Refused
from dunmist.harmless import harmless
from dunmist.jobs.prove import (
    design_for,
    prove_suspect,
    suspected_resource,
    suspecting,
    why_unprovable,
)
from dunmist.jobs.selection import Chosen


def prove(chosen: Chosen, span_s: float, *, asks: bool) -> None:
    """Say what would be done, and do it on request; raises Refused, Stopped and Unsuccessful."""
    design = design_for(chosen, span_s)
    unprovable = why_unprovable(chosen, design.phase_s)
    if unprovable is not None:
        raise Refused(
            f"{chosen.name}: {describe_unprovable(unprovable, suspected_resource(chosen)[0])}"
        )
    wanted = suspecting(chosen)
    if reason := refusal_of(chosen, wanted):
        raise Refused(reason)
    say(
        f"{chosen.name} would be paused {design.paused} times within "
        f"{design.phases * design.phase_s:.0f} s, for {design.phase_s:.1f} s each, in an order "
        f"that is drawn now ({percent(design.paused / design.phases)} of the time). It goes on "
        f"afterwards, however this ends."
    )
    for line in process_lines(chosen, wanted):
        say(line)
    if asks and not agrees("\nDo it?"):
        click.echo("\nNothing was done; give --yes to do it.")
        return
    proven = prove_suspect(chosen, design, progress_for)
    click.echo(f"act {proven.outcome.number}:")
    say(harmless(proven.text))
