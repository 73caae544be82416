"""``dunmist fix``: steps of the ladder by name, shown, and carried out only on request."""

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dunmist.cli.completion import complete_act, complete_step
from dunmist.cli.group import GroupWithDefault, say_new_spelling
from dunmist.cli.parameters import CAPTURE, Duration, refuse_given

if TYPE_CHECKING:
    from dunmist.jobs.selection import Chosen

LAST = "last"
# a shorter trial shows no effect, a longer one takes the technician too long
PROVE_LEAST_S, PROVE_MOST_S = 20.0, 120.0
CHOOSING = ("culprit", "pid", "step", "yes", "measure", "prove", "prove_for_s")


@click.group(cls=GroupWithDefault)
def fix() -> None:
    """Show the steps against a culprit, and carry one out on request.

    It acts only on this computer, in the boot of the capture, and on the very processes that were
    judged. Every act is written down; 'undo' reverses pauses, priorities, limits, and switched-off
    starts. 'dunmist fix FILE' is 'dunmist fix show FILE'.
    """


def target_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options that choose the target of the steps."""
    for option in (
        click.option(
            "--pid",
            type=click.IntRange(1),
            metavar="PID",
            help="The application that has this process.",
        ),
        click.option(
            "--named",
            metavar="NAME",
            help="A service, a timer or a login entry, also where none of it runs.",
        ),
        click.option(
            "--finding",
            metavar="KIND",
            help="A finding of the triage, by its kind: memory-leak, open-port.",
        ),
        click.option(
            "--culprit",
            type=click.IntRange(1),
            metavar="N",
            help="The N-th culprit of the triage; without any of these the first.",
        ),
    ):
        command = option(command)
    return command


@fix.command()
@click.argument("file", type=CAPTURE)
@click.argument("step", required=False, shell_complete=complete_step)
@target_options
@click.option("--json", "as_json", is_flag=True, help="Print the list as JSON.")
def show(
    file: Path,
    step: str | None,
    as_json: bool,
    culprit: int | None,
    finding: str | None,
    named: str | None,
    pid: int | None,
) -> None:
    """List the steps, or show what STEP would do.

    STEP is the name or the number of a step in the list.
    """
    from dunmist.cli import fix_actions
    from dunmist.jobs.selection import step_of

    chosen = _target(file, culprit, finding, pid, named)
    if as_json and step is not None:
        raise click.UsageError("--json is of the whole list; leave out STEP")
    if as_json:
        fix_actions.print_json(chosen)
    elif step is None:
        fix_actions.print_ladder(chosen)
    else:
        fix_actions.print_step(chosen, step_of(chosen, step))


@fix.command(name="do")
@click.argument("file", type=CAPTURE)
@click.argument("step", shell_complete=complete_step)
@target_options
@click.option("--yes", is_flag=True, help="Carry the step out without asking.")
@click.option(
    "--measure/--no-measure",
    default=True,
    show_default=True,
    help="Measure for some seconds before and after whether it helped.",
)
def do_step(
    file: Path,
    step: str,
    culprit: int | None,
    finding: str | None,
    named: str | None,
    pid: int | None,
    yes: bool,
    measure: bool,
) -> None:
    """Carry out STEP; a terminal asks first.

    STEP is the name or the number of a step in the list. Without --yes and a terminal it only shows
    what would be done.
    """
    _show_and_do(_target(file, culprit, finding, pid, named), step, yes=yes, measure=measure)


@fix.command(name="undo")
@click.argument("act", required=False, shell_complete=complete_act)
def undo_one(act: str | None) -> None:
    """Reverse an act of the list, or the last one."""
    _undo(act or LAST)


@fix.command(name="list")
def list_acts() -> None:
    """List past acts, with what came of them."""
    from dunmist.cli import fix_actions

    fix_actions.print_journal()


@fix.command(name="prove")
@click.argument("file", type=CAPTURE)
@target_options
@click.option(
    "--for",
    "prove_for_s",
    type=Duration(PROVE_LEAST_S, PROVE_MOST_S),
    default="40s",
    show_default=True,
    help="How long it may take.",
)
@click.option("--yes", is_flag=True, help="Do it without asking.")
def prove_cause(
    file: Path,
    culprit: int | None,
    finding: str | None,
    named: str | None,
    pid: int | None,
    prove_for_s: float,
    yes: bool,
) -> None:
    """Experiment: does the trouble follow the suspect?

    The suspect is paused and resumed several times, in an order that is drawn by chance.
    """
    from dunmist.cli import proving

    proving.prove(_target(file, culprit, finding, pid, named), prove_for_s, asks=not yes)


@fix.command(name=GroupWithDefault.DEFAULT, hidden=True)
@click.argument("file", type=CAPTURE, required=False)
@click.option(
    "--culprit", type=click.IntRange(1), metavar="N", help="Act on the N-th culprit of the triage."
)
@click.option(
    "--pid",
    type=click.IntRange(1),
    metavar="PID",
    help="Act on the application that has this process.",
)
@click.option(
    "--step",
    type=click.IntRange(1),
    metavar="K",
    help="The K-th step of its ladder; without it the ladder is listed.",
)
@click.option("--yes", is_flag=True, help="Carry the step out without asking.")
@click.option(
    "--measure/--no-measure",
    default=True,
    show_default=True,
    help="Measure for some seconds before and after whether it helped.",
)
@click.option(
    "--prove",
    is_flag=True,
    help="Pause the suspect and let it go on several times, and see whether the trouble follows.",
)
@click.option(
    "--prove-for",
    "prove_for_s",
    type=Duration(PROVE_LEAST_S, PROVE_MOST_S),
    default="40s",
    show_default=True,
    help="How long that may take.",
)
@click.option(
    "--undo",
    is_flag=False,
    flag_value=LAST,
    metavar="[ACT]",
    shell_complete=complete_act,
    help="Reverse an act of the list, or the last one that can be.",
)
@click.option("--list", "only_list", is_flag=True, help="List past acts and do nothing else.")
@click.pass_context
def as_before(
    context: click.Context,
    /,
    file: Path | None,
    culprit: int | None,
    pid: int | None,
    step: int | None,
    yes: bool,
    measure: bool,
    prove: bool,
    prove_for_s: float,
    undo: str | None,
    only_list: bool,
) -> None:
    """Show one step against a culprit of the capture FILE, and carry it out on request.

    Without --yes it only shows what would be done; on a terminal it asks. It acts only on this
    computer, in the boot of the capture, and on the very processes that were judged. Every act is
    written down, and --undo reverses pauses, priorities, limits, and switched-off starts.
    """
    _refuse_ignored(context, undo, only_list=only_list)
    from dunmist.cli import fix_actions

    if only_list:
        fix_actions.print_journal()
        say_new_spelling("dunmist fix list")
        return
    if undo is not None:
        _undo(undo)
        say_new_spelling("dunmist fix undo [ACT]")
        return
    if file is None:
        raise click.UsageError("name a capture, or give --undo or --list")
    chosen = _target(file, culprit, None, pid)
    if prove:
        from dunmist.cli import proving

        refuse_given(context, ("step", "measure"), "--prove is an act of its own; leave out {}")
        proving.prove(chosen, prove_for_s, asks=not yes)
        say_new_spelling("dunmist fix prove FILE")
        return
    refuse_given(context, ("prove_for_s",), "{} says how long --prove may take; add --prove")
    if step is None:
        fix_actions.print_ladder(chosen)
        return
    _show_and_do(chosen, str(step), yes=yes, measure=measure)
    say_new_spelling(f"dunmist fix do FILE {step}")


def _show_and_do(chosen: "Chosen", step: str, *, yes: bool, measure: bool) -> None:
    """Show a step, and carry it out where that was said, or is said on a terminal."""
    from dunmist.cli import fix_actions
    from dunmist.jobs.selection import step_of

    filled = step_of(chosen, step)
    fix_actions.print_step(chosen, filled)
    if filled.act is None:
        click.echo("\nThis step needs a person; nothing was done.")
    elif yes:
        fix_actions.carry_out(chosen, filled, measure=measure)
    elif reason := fix_actions.refusal_of(chosen, filled.act):
        click.echo(f"\nFrom here it would be refused: {reason}.")
    elif fix_actions.agrees("\nDo it?"):
        fix_actions.carry_out(chosen, filled, measure=measure)
    else:
        click.echo("\nNothing was done; give --yes to carry it out.")


def _undo(act: str) -> None:
    from dunmist.harmless import harmless
    from dunmist.jobs.acts import undo_act

    click.echo(harmless(undo_act(None if act == LAST else _number(act))))


def _target(
    file: Path, culprit: int | None, finding: str | None, pid: int | None, named: str | None = None
) -> "Chosen":
    """Return the chosen culprit, the first one by default."""
    from dunmist.jobs.judge import judge
    from dunmist.jobs.selection import choose_culprit, choose_finding, choose_named, choose_owner_of

    if sum(given is not None for given in (culprit, finding, pid, named)) > 1:
        raise click.UsageError("--culprit, --finding, --named and --pid: give one of them")
    judged = judge(file)
    if named is not None:
        return choose_named(judged, named)
    if pid is not None:
        return choose_owner_of(judged, pid)
    if finding is not None:
        return choose_finding(judged, finding)
    return choose_culprit(judged, culprit or 1)


def _refuse_ignored(context: click.Context, undo: str | None, *, only_list: bool) -> None:
    if only_list:
        refuse_given(context, (*CHOOSING, "undo"), "--list does nothing else; leave out {}")
    elif undo is not None:
        refuse_given(context, CHOOSING, "--undo knows from its journal what to do; leave out {}")


def _number(text: str) -> int:
    from dunmist.jobs.numbers import plain_number

    number = plain_number(text)
    if number is None:
        raise click.UsageError(f"undo takes the number of an act, not '{text[:40]}'")
    return number
