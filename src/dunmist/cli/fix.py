"""``dunmist fix``: one step of the ladder, shown, and carried out only when told to."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from dunmist.cli.completion import complete_act
from dunmist.cli.parameters import CAPTURE, Duration, refuse_given

if TYPE_CHECKING:
    from dunmist.jobs.selection import Chosen

LAST = "last"
# less is too short for anything to follow, more too long for who waits
PROVE_LEAST_S, PROVE_MOST_S = 20.0, 120.0
CHOOSING = ("culprit", "pid", "step", "yes", "measure", "prove", "prove_for_s")


@click.command()
@click.argument("file", type=CAPTURE, required=False)
@click.option("--culprit", type=click.IntRange(1), metavar="N",
              help="Act on the N-th culprit of the triage.")  # fmt: skip
@click.option("--pid", type=click.IntRange(1), metavar="PID",
              help="Act on the application that has this process.")  # fmt: skip
@click.option("--step", type=click.IntRange(1), metavar="K",
              help="The K-th step of its ladder; without it the ladder is listed.")  # fmt: skip
@click.option("--yes", is_flag=True, help="Carry the step out without asking.")
@click.option("--measure/--no-measure", default=True, show_default=True,
              help="Measure for some seconds before and after whether it helped.")  # fmt: skip
@click.option("--prove", is_flag=True,
              help="Pause the suspect and let it go on several times, and see whether the trouble "
              "follows.")  # fmt: skip
@click.option("--prove-for", "prove_for_s", type=Duration(PROVE_LEAST_S, PROVE_MOST_S),
              default="40s", show_default=True, help="How long that may take.")  # fmt: skip
@click.option("--undo", is_flag=False, flag_value=LAST, metavar="[ACT]",
              shell_complete=complete_act,
              help="Reverse an act of the list, or the last one that can be.")  # fmt: skip
@click.option("--list", "only_list", is_flag=True, help="List past acts and do nothing else.")
@click.pass_context
def fix(
    context: click.Context, /,
    file: Path | None, culprit: int | None, pid: int | None, step: int | None, yes: bool,
    measure: bool, prove: bool, prove_for_s: float, undo: str | None, only_list: bool,
) -> None:  # fmt: skip
    """Show one step against a culprit of the capture FILE, and carry it out when told to.

    Without --yes it only shows what would be done; on a terminal it asks. It acts only on this
    computer, in the boot of the capture, and on the very processes that were judged. Every act is
    written down, and --undo reverses pauses, priorities, limits, and switched-off starts.
    """
    _refuse_ignored(context, undo, only_list=only_list)
    from dunmist.cli import fix_actions
    from dunmist.harmless import harmless
    from dunmist.jobs.acts import undo_act
    from dunmist.jobs.selection import rung_of

    if only_list:
        fix_actions.print_journal()
        return
    if undo is not None:
        text = undo_act(None if undo == LAST else _number(undo))
        click.echo(harmless(text))
        return
    if file is None:
        raise click.UsageError("name a capture, or give --undo or --list")
    chosen = _chosen(file, culprit, pid)
    if prove:
        from dunmist.cli import proving

        refuse_given(context, ("step", "measure"), "--prove is an act of its own; leave out {}")
        proving.prove(chosen, prove_for_s, asks=not yes)
        return
    refuse_given(context, ("prove_for_s",), "{} says how long --prove may take; add --prove")
    if step is None:
        fix_actions.print_ladder(chosen)
        return
    rung = rung_of(chosen, step)
    fix_actions.print_rung(chosen, rung)
    if rung.act is None:
        click.echo("\nThis step needs a person; nothing was done.")
    elif yes:
        fix_actions.carry_out(chosen, rung, measure=measure)
    elif reason := fix_actions.refusal_of(chosen, rung.act):
        click.echo(f"\nFrom here it would be refused: {reason}.")
    elif fix_actions.agrees("\nDo it?"):
        fix_actions.carry_out(chosen, rung, measure=measure)
    else:
        click.echo("\nNothing was done; give --yes to carry it out.")


def _chosen(file: Path, culprit: int | None, pid: int | None) -> "Chosen":
    from dunmist.jobs.judge import judge
    from dunmist.jobs.selection import choose_culprit, choose_owner_of

    if culprit is not None and pid is None:
        return choose_culprit(judge(file), culprit)
    if pid is not None and culprit is None:
        return choose_owner_of(judge(file), pid)
    raise click.UsageError("say on whom to act: --culprit N or --pid PID")


def _refuse_ignored(context: click.Context, undo: str | None, *, only_list: bool) -> None:
    if only_list:
        refuse_given(context, (*CHOOSING, "undo"), "--list does nothing else; leave out {}")
    elif undo is not None:
        refuse_given(context, CHOOSING, "--undo knows from its journal what to do; leave out {}")


def _number(text: str) -> int:
    from dunmist.jobs.numbers import plain_number

    number = plain_number(text)
    if number is None:
        raise click.UsageError(f"--undo takes the number of an act, not '{text[:40]}'")
    return number
