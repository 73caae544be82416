"""What ``dunmist fix`` does after its options are read: find the step, show it, do it, measure."""

import shutil
import tempfile
import textwrap
from collections import defaultdict
from pathlib import Path
from typing import NamedTuple

import click
import numpy as np

from dunmist.advice import (
    Act,
    Rung,
    application_rungs,
    cores_text,
    culprit_rungs,
    percent,
)
from dunmist.applications import Grouping
from dunmist.cli.capturing import Wishes, run_capture
from dunmist.cli.judging import Judged, judge
from dunmist.cli.settings import journal_path
from dunmist.computer import Root
from dunmist.diagnosis import ResourceState
from dunmist.errors import Refused, Unsuccessful
from dunmist.fixing import (
    Effect,
    carry_out,
    check_act,
    check_capture,
    effect_of,
    read_journal,
    undo,
)
from dunmist.harmless import harmless
from dunmist.series.naming import distinct_name

LOOK_S, LOOK_EVERY_S = 4.0, 0.25
WIDTH_MOST = 100


class Chosen(NamedTuple):
    """An application of a capture with its ladder."""

    judged: Judged
    application: int
    rungs: list[Rung]

    @property
    def name(self) -> str:
        """Return what to call it."""
        return distinct_name(self.judged.series, self.application)


def choose(file: Path, culprit: int | None, pid: int | None) -> Chosen:
    """Return the application that was asked for; raises UsageError when it is not there."""
    judged = judge(file)
    series, diagnosis = judged.series, judged.diagnosis
    if culprit is not None:
        if culprit > len(diagnosis.culprits):
            count = len(diagnosis.culprits)
            raise click.UsageError(
                f"{file}: has {count} culprit{'s' if count != 1 else ''}, not {culprit}; "
                f"see 'dunmist triage {file}', or give --pid"
            )
        one = diagnosis.culprits[culprit - 1]
        return Chosen(judged, one.application, culprit_rungs(series, one, diagnosis))
    processes, grouping = series.processes, series.processes.grouping
    living = [
        identity
        for identity in processes.last
        if grouping.facts(identity).pid == pid and identity not in processes.ended_tick
    ]
    if not living:
        raise click.UsageError(
            f"{file}: process {pid} was not there at its end; see 'dunmist view processes {file} "
            f"--each'"
        )
    application = grouping.application_of[living[-1]]
    ranked = [one for one in diagnosis.culprits if one.application == application]
    rungs = (
        culprit_rungs(series, ranked[0], diagnosis)
        if ranked
        else application_rungs(series, application, diagnosis)
    )
    return Chosen(judged, application, rungs)


def rung_of(chosen: Chosen, step: int) -> Rung:
    """Return one rung by its number; raises UsageError when there is none."""
    if step > len(chosen.rungs):
        raise click.UsageError(
            f"the ladder of {chosen.name} has {len(chosen.rungs)} steps, not {step}; leave --step "
            f"out to see them"
        )
    return chosen.rungs[step - 1]


def print_ladder(chosen: Chosen) -> None:
    """Print all steps with their numbers, and which of them can be carried out from here."""
    click.echo(f"Steps for {harmless(chosen.name)}, safest first:")
    for number, rung in enumerate(chosen.rungs, start=1):
        by = "" if rung.act else ", by a person"
        _say(f"{number:3}. {rung.step.text} [{rung.step.risk}{by}]", indent=5)


def print_rung(chosen: Chosen, rung: Rung) -> None:
    """Print exactly what a step would do."""
    step, act = rung.step, rung.act
    lines = [f"{chosen.name}: {step.text}", f"risk: {step.risk}"]
    if act and act.targets:
        lines += [f"processes: {text}" for text in _named(act)]
    if act and act.unit and not act.targets:
        lines.append(f"unit: {act.unit}")
    if step.command:
        lines.append(f"the same by hand: {step.command}")
    if step.undo:
        lines.append(f"undo: {step.undo}")
    lines.append(f"look at afterwards: {step.check}")
    for line in lines:
        _say(line)


def refusal(chosen: Chosen, wanted: Act) -> str | None:
    """Return why an act would be refused right now, None when it would be carried out."""
    root = Root(Path("/"))
    try:
        check_capture(chosen.judged.series.header, root)
        check_act(wanted, root)
    except Refused as error:
        return str(error)
    return None


def act(chosen: Chosen, wanted: Act, *, measure: bool) -> None:
    """Carry an act out and say what came of it.

    Raises Refused when it must not be done and Unsuccessful when it did not do what it was for.
    """
    reason = refusal(chosen, wanted)
    if reason:
        raise Refused(reason)
    root, header = Root(Path("/")), chosen.judged.series.header
    before = _look() if measure else None
    outcome = carry_out(wanted, header, root, journal_path())
    click.echo(f"act {outcome.number}: {harmless(outcome.text)}")
    if before is not None:
        after = _look()
        click.echo(_effect_text(chosen, before.diagnosis.resources, after.diagnosis.resources))
        used = " before, ".join(cores_text(*_use_of(chosen, one)) for one in (before, after))
        click.echo(harmless(f"{chosen.name} itself used {used} after"))
    if not outcome.worked:
        raise Unsuccessful(f"{chosen.name}: {outcome.text}; look at the next step of its ladder")


def undo_act(number: int | None) -> None:
    """Reverse an act of the journal; raises Refused."""
    click.echo(harmless(undo(journal_path(), number, Root(Path("/")))))


def print_journal() -> None:
    """Print past acts, the oldest first."""
    entries = {one.number: one for one in read_journal(journal_path())}
    if not entries:
        click.echo("no acts so far")
    for one in entries.values():
        whom = (
            one.act.unit
            or one.act.file
            or ", ".join(f"{target.name} ({target.pid})" for target in one.act.targets[:3])
        )
        what = f"undo of {one.undoes}" if one.undoes else one.act.verb
        state = one.outcome or "begun, and never ended"
        click.echo(harmless(f"{one.number:4}  {one.at}  {what}  {whom}: {state}"))


def _say(text: str, indent: int = 2) -> None:
    width = min(WIDTH_MOST, shutil.get_terminal_size((WIDTH_MOST, 24)).columns - 1)
    click.echo(textwrap.fill(harmless(text), width, subsequent_indent=" " * indent,
                             break_on_hyphens=False, break_long_words=False))  # fmt: skip


def _named(wanted: Act) -> list[str]:
    """Return the processes of an act by program and owner."""
    by_owner: dict[tuple[str, str], list[str]] = defaultdict(list)
    for one in wanted.targets:
        by_owner[one.name, one.user or "unknown"].append(str(one.pid))
    return [
        f"{' '.join(pids)} ({name}, of {user})" for (name, user), pids in sorted(by_owner.items())
    ]


def _look() -> Judged:
    """Return what is found over the next seconds."""
    with tempfile.TemporaryDirectory(prefix="dunmist-") as folder:
        path = Path(folder) / "look.jsonl.gz"
        run_capture(Wishes(path, LOOK_S, LOOK_EVERY_S))
        return judge(path)


def _use_of(chosen: Chosen, seen: Judged) -> tuple[float, float]:
    """Return the processors that an application used, and how many there are."""
    processes, machine = seen.series.processes, seen.series.machine
    before = chosen.judged.series.processes.grouping
    known = _identities(before, chosen.application)
    grouping = processes.grouping
    numbers = range(len(grouping.applications))
    same = [bool(known & _identities(grouping, number)) for number in numbers]
    if not any(same):  # it may have come back as other processes
        name = before.applications[chosen.application].name
        same = [grouping.applications[number].name == name for number in numbers]
    cores = processes.all_cores[:, same].sum(axis=1)
    return float(np.average(cores, weights=machine.interval_s)), float(np.median(machine.online))


def _identities(grouping: Grouping, application: int) -> set[tuple[int, int]]:
    members = map(grouping.facts, grouping.applications[application].members)
    return {(one.pid, one.start_clk) for one in members}


def _effect_text(chosen: Chosen, before: list[ResourceState], after: list[ResourceState]) -> str:
    diagnosis = chosen.judged.diagnosis
    resource = diagnosis.limiting or "cpu"
    states = [one for one in diagnosis.resources if one.resource == resource]
    name = max(states, key=lambda one: one.used).name if states else None
    effect = effect_of(before, after, resource, None if resource == "core" else name)
    if effect is None:
        return f"{resource}: cannot be measured within seconds; sample again with a capture"
    return _effect_line(effect)


def _effect_line(effect: Effect) -> str:
    used = f"used {percent(effect.used[0])} before, {percent(effect.used[1])} after"
    held = ""
    if effect.pressure:
        held = f"; work held up {percent(effect.pressure[0])} before, "
        held += f"{percent(effect.pressure[1])} after"
    return f"{effect.verdict}: {effect.resource} {used}{held} (over {LOOK_S:g} s each)"
