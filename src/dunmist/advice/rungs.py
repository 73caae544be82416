"""The rungs of the ladder for an application or finding: the steps that fit, filled in.

Which step fits is told by ``ladder.toml``; this module fills in names, numbers, units and files,
quoted for the shell, and says what ``dunmist fix`` would do for it.
"""

import shlex
from collections import defaultdict
from typing import Any, NamedTuple

import numpy as np

from dunmist.advice.about import About, about_application, search_words
from dunmist.advice.acts import Act, Target, Verb
from dunmist.advice.amounts import cores_text
from dunmist.advice.autostart_entries import disable_command, enable_command
from dunmist.advice.circumstances import circumstances
from dunmist.advice.recognition import GUESSES, Recognised
from dunmist.advice.tables import ladder, wording
from dunmist.advice.triage import RISKS, Step
from dunmist.applications import in_user_manager
from dunmist.diagnosis import Culprit, Diagnosis, Finding, Role
from dunmist.series import Series
from dunmist.series.naming import distinct_name, main_identity

LEAST_PERCENT = 20
ROOT = "/"
# what the service manager keeps a control group for (systemd.unit(5))
UNITS = (".service", ".timer", ".scope", ".slice")


class Rung(NamedTuple):
    """A step as people read it, what goes after "First" in a verdict, and its act, if any."""

    step: Step
    brief: str
    act: Act | None


def culprit_rungs(series: Series, culprit: Culprit, diagnosis: Diagnosis) -> list[Rung]:
    """Return the whole ladder of a culprit, safest first."""
    return application_rungs(series, culprit.application, diagnosis, culprit.role)


def application_rungs(
    series: Series, application: int, diagnosis: Diagnosis, role: Role = "cause"
) -> list[Rung]:
    """Return the whole ladder of any application, safest first."""
    about = about_application(series, application)
    if about is None:
        return []
    holding = circumstances(series, about, diagnosis, role)
    filling = _filling(series, about, diagnosis)
    return _rungs(ladder()["culprit"], holding, filling, _Acting(series, about))


def finding_rungs(series: Series, finding: Finding, diagnosis: Diagnosis) -> list[Rung]:
    """Return the steps against a finding, safest first."""
    outside = diagnosis.outside
    if outside and finding.kind in ladder()["outside"].get(outside.kind, ()):
        return []
    about = None
    if finding.application is not None:
        about = about_application(series, finding.application)
    names = ladder()["finding"][finding.kind]
    quoted = shlex.quote(finding.subject)
    filling = {
        "subject": finding.subject,
        "subject_quoted": quoted,
        "unit": quoted,
        "name": finding.subject,
        "systemctl": "systemctl",
        "cause": _cause(diagnosis),
    }
    if about is None:
        words = {"root-full"} if finding.subject == ROOT else set()
        unit = finding.subject if finding.subject.endswith((".service", ".timer")) else None
        words |= {"service", "running"} if unit else set()
        words |= {"unit"} if finding.subject.endswith(UNITS) else set()
        holding = frozenset(words)
        return _rungs(names, holding, filling, _Acting(series, None, unit))
    filling |= _filling(series, about, diagnosis)
    role = _role(finding, diagnosis)
    holding = circumstances(series, about, diagnosis, role)
    return _rungs(names, holding, filling, _Acting(series, about))


def _role(finding: Finding, diagnosis: Diagnosis) -> Role:
    """Return a program's part in a finding: that in the ranking, else what the finding makes it."""
    ranked = (one.role for one in diagnosis.culprits if one.application == finding.application)
    made: Role = ladder()["finding_role"].get(finding.kind, "cause")
    return next(ranked, made)


def _rungs(
    names: list[str], holding: frozenset[str], filling: dict[str, str], acting: "_Acting"
) -> list[Rung]:
    steps = ladder()["step"]
    rungs = [
        Rung(
            _step(name, steps[name], filling),
            steps[name].get("brief", "").format_map(filling),
            acting.act(steps[name].get("act")),
        )
        for name in names
        if _fits(steps[name], holding)
    ]
    return sorted(rungs, key=lambda rung: RISKS.index(rung.step.risk))


def _fits(step: dict[str, Any], holding: frozenset[str]) -> bool:
    some, every, none = (frozenset(step.get(key, ())) for key in ("any", "all", "unless"))
    return (
        (not some or not some.isdisjoint(holding)) and every <= holding and none.isdisjoint(holding)
    )


def _step(name: str, template: dict[str, Any], filling: dict[str, str]) -> Step:
    command, undo = template.get("command"), template.get("undo")
    return Step(
        action=name,
        text=template["text"].format_map(filling).strip(),
        command=command.format_map(filling) if command else None,
        risk=template["risk"],
        undo=undo.format_map(filling) if undo else None,
        check=template["check"].format_map(filling),
    )


def living(series: Series, application: int) -> list[int]:
    """Return an application's identities that were there at the end, the oldest first."""
    processes = series.processes
    members = processes.grouping.applications[application].members
    alive = [member for member in members if member not in processes.ended_tick]
    facts = processes.grouping.facts
    return sorted(alive, key=lambda one: (facts(one).start_clk, facts(one).pid))


def _filling(series: Series, about: About, diagnosis: Diagnosis) -> dict[str, str]:
    """Return what the texts and commands of an application's steps are filled with."""
    grouping = series.processes.grouping
    application = grouping.applications[about.application]
    name = distinct_name(series, about.application)
    pids = [grouping.facts(one).pid for one in living(series, about.application)]
    words, kind = wording()["ladder"], about.recognised.kind if about.recognised else None
    entry = about.origin.entry
    percent = _percent(series, about.application)
    return {
        "name": name,
        "cause": _cause(diagnosis),
        "normal": _normal_text(name, about.recognised),
        "hint": words["hint"].format(trouble=kind.trouble) if kind else "",
        "search": words["search"].format(words=search_words(about)),
        "protection": wording()["protected"][about.protection] if about.protection else "",
        "pids": " ".join(map(str, pids)),
        "pid": str(pids[0]) if pids else "",
        "unit": shlex.quote(application.unit or ""),
        "timer": shlex.quote(about.origin.name or ""),
        "systemctl": _systemctl(series, about),
        "percent": str(percent),
        "limit_cores": cores_text(percent / 100.0, float(np.median(series.machine.online))),
        "package": about.package.name if about.package else "",
        "restore_nice": _restore_nice(series, about.application),
        "file": entry.file if entry else "",
        "disable_entry": disable_command(entry) if entry else "",
        "enable_entry": enable_command(entry) if entry else "",
    }  # fmt: skip


def _cause(diagnosis: Diagnosis) -> str:
    if diagnosis.culprits and diagnosis.culprits[0].role == "cause":
        return diagnosis.culprits[0].name
    return diagnosis.outside.subject if diagnosis.outside else wording()["ladder"]["cause-unknown"]


def _normal_text(name: str, recognised: Recognised | None) -> str:
    words = wording()["ladder"]
    if recognised is None:
        return words["wait-unknown"].format(name=name)
    guess = words["guess"] if recognised.by in GUESSES else ""
    kind = recognised.kind
    return words["wait-known"].format(name=name, guess=guess, what=kind.what, normal=kind.normal)


def _systemctl(series: Series, about: About) -> str:
    user = _manager_user(series, about)
    return f"systemctl --user --machine={shlex.quote(user)}@" if user else "systemctl"


def _manager_user(series: Series, about: About) -> str | None:
    """Return whose own service manager has an application's unit, None for the system's."""
    facts = series.processes.grouping.facts(about.identity)
    unit = series.processes.grouping.applications[about.application].unit
    return facts.user if unit and in_user_manager(facts.cgroup) else None


def _percent(series: Series, application: int) -> int:
    """Return about half of what an application takes, in percent of one processor."""
    cores = series.processes.all_cores[:, application]
    return max(LEAST_PERCENT, round(float(cores.mean()) * 5) * 10)


def _restore_nice(series: Series, application: int) -> str:
    """Return the command that gives every process the nice value it had."""
    processes = series.processes
    by_nice: dict[int, list[str]] = defaultdict(list)
    for one in living(series, application):
        by_nice[processes.last[one].nice].append(str(processes.grouping.facts(one).pid))
    return "; ".join(
        f"for p in {' '.join(pids)}; do renice -n {nice} -p $(ls /proc/$p/task); done"
        for nice, pids in sorted(by_nice.items())
    )


class _Acting:
    """Fills in the acts for one application, or for a unit that has none."""

    def __init__(self, series: Series, about: About | None, unit: str | None = None) -> None:
        self._series, self._about, self._unit = series, about, unit

    def act(self, verb: Verb | None) -> Act | None:
        """Return the act for a verb; None where a step needs a person."""
        if verb is None:
            return None
        if self._about is None:
            return Act(verb, unit=self._unit)
        entry = self._about.origin.entry
        application = self._about.application
        unit = self._series.processes.grouping.applications[application].unit
        if verb == "disable-timer":
            unit = self._about.origin.name
        return Act(
            verb,
            targets=self._targets(verb),
            unit=unit,
            user=self._about.owner
            if verb == "disable-autostart"
            else _manager_user(self._series, self._about),
            percent=_percent(self._series, application) if verb == "limit" else None,
            file=entry.file if entry else None,
        )

    def _targets(self, verb: Verb) -> list[Target]:
        grouping = self._series.processes.grouping
        assert self._about is not None
        identities = living(self._series, self._about.application)
        main = main_identity(self._series, self._about.application)
        chosen = [one for one in identities if one == main] if verb == "end" else identities
        return [
            Target(facts.pid, facts.start_clk, grouping.program(one).name, facts.uid, facts.user)
            for one in chosen
            for facts in (grouping.facts(one),)
        ]
