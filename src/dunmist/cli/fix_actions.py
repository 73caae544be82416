"""Print the output of ``dunmist fix``: ladders and steps, results, past acts."""

import shutil
import sys
import textwrap
from collections import defaultdict

import click
import msgspec

from dunmist.advice import Act, FilledStep, cores_text, percent
from dunmist.cli.progress import progress_for
from dunmist.desk.judgement import REFUSED_NOW
from dunmist.errors import Refused, Stopped, Unsuccessful
from dunmist.fixing import Effect, brought, score, settled
from dunmist.harmless import harmless
from dunmist.jobs.acts import affected, do_act, keep_effect, past_acts, refusal, undo_act
from dunmist.jobs.measure import Measured, compare_measured, just_before, sample_now
from dunmist.jobs.selection import Chosen

WIDTH_MOST = 100
# more processes than these are counted, not listed
TARGETS_SHOWN = 3


def print_ladder(chosen: Chosen) -> None:
    """Print all steps with their numbers, and which of them can be carried out from here."""
    click.echo(f"Steps for {harmless(chosen.name)}, safest first:")
    for number, filled in enumerate(chosen.filled_steps, start=1):
        by = "" if filled.act else ", by a person"
        name = filled.step.action
        say(f"{number:3}. {name}: {filled.step.text} [{filled.step.risk}{by}]", indent=5)


def print_json(chosen: Chosen) -> None:
    """Print all steps as the triage has them."""
    click.echo(msgspec.json.encode([filled.step for filled in chosen.filled_steps]).decode())


def print_step(chosen: Chosen, filled: FilledStep) -> None:
    """Print exactly what a step would do."""
    step, act = filled.step, filled.act
    lines = [f"{chosen.name}: {step.text}", f"risk: {step.risk}"]
    if act and act.unit:
        lines.append(f"unit: {act.unit}")
    if act:
        lines += process_lines(chosen, act)
    for line in lines:
        say(line)
    # a pasted command stays on one line: a part of it is another command
    for title, text in (("the same by hand", step.command), ("undo", step.undo)):
        if text:
            click.echo(harmless(f"{title}: {text}"))
    say(f"look at afterwards: {step.check}")
    if act and (reason := refusal_of(chosen, act)):
        say(f"{REFUSED_NOW}{reason}")


def refusal_of(chosen: Chosen, wanted: Act) -> str | None:
    """Return why an act would be refused right now, None when it would be carried out."""
    return refusal(chosen.judged.series.header, wanted)


def carry_out(chosen: Chosen, filled: FilledStep, *, measure: bool) -> None:
    """Carry an act out and say what came of it.

    Raises Refused when it must not be done, Unsuccessful when it did not do what it was for, and
    Stopped where Ctrl-C ended it: then nothing more is done.
    """
    wanted = filled.act
    assert wanted is not None  # the caller has checked
    if reason := refusal_of(chosen, wanted):
        raise Refused(reason)
    # a stopped program uses nothing before and nothing after
    measure = measure and chosen.application is not None
    try:
        before = (just_before(chosen) or sample_now(progress_for)) if measure else None
    except KeyboardInterrupt as stop:
        raise Stopped("stopped while measuring; nothing was done") from stop
    outcome = do_act(chosen.judged.series.header, wanted)
    click.echo(f"act {outcome.number}: {harmless(outcome.text)}")
    if before is not None:
        try:
            after = sample_now(progress_for)
        except KeyboardInterrupt as stop:
            raise Stopped(
                f"stopped while measuring; act {outcome.number} is done, see 'dunmist fix list'"
            ) from stop
        measured = compare_measured(chosen, before, after, filled.step.frees)
        keep_effect(outcome.number, measured)
        for line in _measured_lines(chosen, measured):
            click.echo(harmless(line))
        if wanted.verb == "pause" and measured.effect and measured.effect.verdict != "better":
            _propose_resuming(chosen, outcome.number)
    if not outcome.worked:
        raise Unsuccessful(f"{chosen.name}: {outcome.text}; look at the next step of its ladder")


def _propose_resuming(chosen: Chosen, number: int) -> None:
    """Offer to let go on what was paused for nothing."""
    click.echo(harmless(f"It did not help; let {chosen.name} go on: dunmist fix undo {number}"))
    if agrees("Do it now?", default=True):
        click.echo(harmless(undo_act(number)))


def print_journal() -> None:
    """Print past acts, the oldest first."""
    lines = past_acts()
    if not lines:
        click.echo("no acts so far")
    for line in lines:
        targets = line.act.targets[:TARGETS_SHOWN]
        subject = (
            line.act.unit
            or line.act.file
            or ", ".join(f"{target.name} ({target.pid})" for target in targets)
        )
        what = f"undo of {line.undoes}" if line.undoes else line.act.verb
        state = "; ".join(filter(None, (line.outcome or "begun, and never ended", brought(line))))
        click.echo(harmless(f"{line.number:4}  {line.at}  {what}  {subject}: {state}"))
    if summary := score(lines):
        click.echo(summary)


def agrees(question: str, *, default: bool = False) -> bool:
    """Ask on a terminal; nobody agrees where there is none."""
    is_asked = sys.stdin.isatty() and sys.stdout.isatty()
    return is_asked and click.confirm(question, default=default)


def say(text: str, indent: int = 2) -> None:
    """Print a text in lines that fit."""
    width = min(WIDTH_MOST, shutil.get_terminal_size((WIDTH_MOST, 24)).columns - 1)
    click.echo(
        textwrap.fill(
            harmless(text),
            width,
            subsequent_indent=" " * indent,
            break_on_hyphens=False,
            break_long_words=False,
        )
    )


def process_lines(chosen: Chosen, wanted: Act) -> list[str]:
    """Return number, name and owner of each process that an act would concern now.

    Those of another owner than the first's have lines of their own. Where the act would be refused,
    they are those of the capture.
    """
    try:
        targets = affected(chosen.judged.series.header, wanted)
    except Refused:
        targets = wanted.targets
    by_owner: dict[tuple[str, str], list[str]] = defaultdict(list)
    for target in targets:
        by_owner[target.user or "unknown", target.name].append(str(target.pid))
    first = (targets[0].user or "unknown") if targets else None
    return [
        f"{'processes' if user == first else 'of another owner'}: {' '.join(pids)} "
        f"({name}, of {user})"
        for (user, name), pids in sorted(by_owner.items(), key=lambda item: item[0][0] != first)
    ]


def _measured_lines(chosen: Chosen, measured: Measured) -> list[str]:
    resource = chosen.judged.diagnosis.limiting or "cpu"
    effect = (
        _effect_line(measured.effect)
        if measured.effect
        else f"{resource}: cannot be measured within seconds; sample again with a capture"
    )
    used = " before, ".join(cores_text(*use) for use in (measured.before, measured.after))
    lines = [effect, f"{chosen.name} itself used {used} after"]
    if measured.expected is not None and measured.freed is not None:
        lines.append(settled(measured.expected, measured.freed))
    return lines


def _effect_line(effect: Effect) -> str:
    used = f"used {percent(effect.used[0])} before, {percent(effect.used[1])} after"
    held = ""
    if effect.pressure:
        held = f"; tasks waited {percent(effect.pressure[0])} before, "
        held += f"{percent(effect.pressure[1])} after"
    return f"{effect.verdict}: {effect.resource} {used}{held}"
