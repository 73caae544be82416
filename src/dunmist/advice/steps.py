"""The ladder of fixes for a culprit, safest first, and the caution that goes with it."""

import shlex

from dunmist.advice.tables import ladder, wording
from dunmist.advice.triage import RISKS, Step
from dunmist.diagnosis import Culprit, Diagnosis, Finding
from dunmist.series import Series

FIRST_PERSON_UID = 1000  # login.defs(5): below it are the administrator and service accounts
NOBODY_UID = 65534
PIDS_SHOWN = 40


def live_pids(series: Series, application: int) -> list[int]:
    """Return the numbers of an application's processes that were there at the end, by start."""
    processes = series.processes
    members = processes.grouping.applications[application].members
    alive = [member for member in members if member not in processes.ended_tick]
    facts = [processes.grouping.facts(member) for member in alive]
    return [fact.pid for fact in sorted(facts, key=lambda fact: (fact.start_clk, fact.pid))]


def finding_steps(finding: Finding) -> list[Step]:
    """Return the steps against a finding that is about no program; most have none of their own."""
    path = shlex.quote(finding.subject)
    return [
        _filled(action, {"name": finding.subject}, {"path": path})
        for action in ladder()["finding"].get(finding.kind, ())
    ]


def _filled(action: str, words: dict[str, str], commands: dict[str, str]) -> Step:
    template = ladder()["step"][action]
    command, undo = template.get("command"), template.get("undo")
    return Step(
        action=action,
        text=template["text"].format_map(words),
        command=command.format_map(commands) if command else None,
        risk=template["risk"],
        undo=undo.format_map(commands) if undo else None,
        check=template["check"].format_map(words),
    )


def steps_for(series: Series, culprit: Culprit, diagnosis: Diagnosis) -> list[Step]:
    """Return the ladder of one culprit with its commands filled in, safest first."""
    kind = _ladder_kind(series, culprit)
    pids = live_pids(series, culprit.application)
    application = series.processes.grouping.applications[culprit.application]
    unit = shlex.quote(application.unit or "")
    first = diagnosis.culprits[0]
    cause = first.name if first.role == "cause" else "what is not known yet"
    words = {"name": culprit.name, "unit": unit, "cause": cause}
    commands = {
        **words,
        "pids": " ".join(map(str, pids[:PIDS_SHOWN])),
        "pid": str(pids[0]) if pids else "",
    }
    actions = [
        action
        for action in [*ladder()["kinds"][kind], *ladder()["extra"].get(diagnosis.limiting, ())]
        if pids or "{pid" not in ladder()["step"][action].get("command", "")
    ]
    steps = [_filled(action, words, commands) for action in actions]
    return sorted(steps, key=lambda step: RISKS.index(step.risk))


def caution_for(series: Series, culprit: Culprit, users: list[str]) -> str | None:
    """Return what to mind before ending a culprit, None for a program of a person."""
    words = wording()["caution"]
    application = series.processes.grouping.applications[culprit.application]
    if application.kernel:
        return f"{culprit.name} {words['kernel']}"
    if is_protected(series, culprit.application):
        return f"{culprit.name} {words['protected']}"
    if culprit.role == "symptom":
        return f"{culprit.name} {words['symptom']}"
    uids = {series.processes.grouping.facts(member).uid for member in application.members}
    if any(uid is None or uid < FIRST_PERSON_UID or uid == NOBODY_UID for uid in uids):
        owners = " and ".join(users) or "an unknown user"
        return f"{culprit.name} {words['system'].format(users=owners)}"
    return None


def is_protected(series: Series, application: int) -> bool:
    """Whether ending any process of an application would stop the computer or the session."""
    grouping = series.processes.grouping
    names = frozenset(ladder()["protected"]["names"])
    return any(
        grouping.facts(member).pid == 1 or grouping.facts(member).name in names
        for member in grouping.applications[application].members
    )


def _ladder_kind(series: Series, culprit: Culprit) -> str:
    application = series.processes.grouping.applications[culprit.application]
    if application.kernel:
        return "kernel"
    if culprit.role == "victim":
        return "victim"
    if culprit.role == "symptom" or is_protected(series, culprit.application):
        return "protected"
    if application.unit and application.unit.endswith(".service"):
        return "service"
    return "program"
