"""Puts a whole diagnosis into words: the triage document, and all that later rooms are handed."""

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import NamedTuple

from dunmist.advice.amounts import span_text
from dunmist.advice.blind_spots import blind_spots_of
from dunmist.advice.case import Cases
from dunmist.advice.complaint_words import COMPLAINTS, COMPLAINTS_MAX, PROGRAM, understood
from dunmist.advice.complaints import answer_to
from dunmist.advice.evidence import evidence_of, rounded
from dunmist.advice.ladder_steps import frees_of
from dunmist.advice.program_facts import About, what_it_is
from dunmist.advice.recent_changes import change_evidence
from dunmist.advice.template_values import finding_text, subject_of
from dunmist.advice.triage import (
    CaptureFacts,
    CulpritAdvice,
    FindingAdvice,
    PartFacts,
    ResourceAdvice,
    Since,
    Triage,
    Verdict,
)
from dunmist.advice.verdict_text import headline, worst_of
from dunmist.advice.wording import wording
from dunmist.captures.sharing import is_shared
from dunmist.diagnosis import Culprit, Diagnosis, Finding, Onset, ResourceState, figure
from dunmist.series import WHOLE, Process, Series

CLOCK = "%H:%M:%S"


class Around(NamedTuple):
    """The whole capture around the window that is judged by itself."""

    series: Series
    diagnosis: Diagnosis


def compose_triage(
    series: Series,
    diagnosis: Diagnosis,
    cases: Cases,
    complaints: Sequence[str],
    around: Around | None = None,
) -> Triage:
    """Return the triage document of a diagnosis."""
    header = series.header
    answers = _answers(series, diagnosis, complaints)
    verdict = _when(series, around) + headline(diagnosis, cases, answers)
    return Triage(
        capture=CaptureFacts(
            # the directory of a copy says who shared it
            path=series.path.name if is_shared(series.header) else str(series.path),
            host=header.machine.host,
            started=header.started,
            duration_s=round(series.duration_s, 3),
            ticks=series.ticks,
            privileged=header.privileged,
            part=None
            if series.part == WHOLE
            else PartFacts(series.since_s, series.since_s + series.duration_s),
        ),
        verdict=Verdict(
            headline=verdict.strip(),
            level=diagnosis.level,
            limiting=diagnosis.limiting,
            confidence=rounded(diagnosis.confidence),
            worst=worst_of(diagnosis),
            answer=answers or None,
        ),
        resources=[_resource(state) for state in diagnosis.resources],
        culprits=[
            _culprit(rank, culprit, cases)
            for rank, culprit in enumerate(diagnosis.culprits, start=1)
        ],
        findings=_findings(diagnosis, cases, around),
        coverage={
            name: None if share is None else rounded(share)
            for name, share in diagnosis.coverage.items()
        },
        blind_spots=blind_spots_of(series),
    )


def _when(series: Series, around: Around | None) -> str:
    """Return when it was bad, as what the verdict begins with; nothing of a whole capture."""
    if around is None:
        return ""
    began = datetime.fromisoformat(series.header.started)
    ended = began + timedelta(seconds=series.duration_s)
    return wording()["headline"]["stretch"].format(
        whole=span_text(around.series.duration_s),
        since=f"{began:{CLOCK}}",
        until=f"{ended:{CLOCK}}",
        length=span_text(series.duration_s),
    )


def _findings(diagnosis: Diagnosis, cases: Cases, around: Around | None) -> list[FindingAdvice]:
    """Return the findings, behind them those that only the whole capture shows."""
    findings = [_finding(finding, cases) for finding in diagnosis.findings]
    if around is None:
        return findings
    known = {(finding.kind, finding.subject) for finding in diagnosis.findings}
    of_all = Cases(around.series, around.diagnosis)
    return findings + [
        _finding(finding, of_all)
        for finding in around.diagnosis.findings
        if (finding.kind, finding.subject) not in known
    ]


def _answers(series: Series, diagnosis: Diagnosis, complaints: Sequence[str]) -> str:
    """Return the answers to what was complained of; nothing where nobody complained."""
    header = series.header
    asked = complaints or header.complaints or understood(header.note)
    known = [name for name in asked if name in COMPLAINTS or name.startswith(PROGRAM)]
    # the answer to the most general complaint leads over to the verdict
    first = list(dict.fromkeys(known))[:COMPLAINTS_MAX]
    ordered = sorted(first, key=lambda complaint: complaint == COMPLAINTS[0])
    return " ".join(answer_to(name, series, diagnosis) for name in ordered)


def _resource(state: ResourceState) -> ResourceAdvice:
    return ResourceAdvice(
        resource=state.resource,
        name=state.name,
        level=state.level,
        used=rounded(state.used),
        pressure=None if state.pressure is None else rounded(state.pressure),
        errors=state.errors,
        evidence=evidence_of(state.evidence),
    )


def _culprit(rank: int, culprit: Culprit, cases: Cases) -> CulpritAdvice:
    application, case = culprit.application, cases.of_culprit(culprit)
    running = [process.pid for process in application.living]
    ended = sorted({process.pid for process in application.members} - set(running))
    evidence = list(culprit.evidence)
    if case:
        main = case.about.process
        evidence += change_evidence(case.recent)
        evidence.append(figure("what-it-is", float(main.pid), name=what_it_is(case.about)))
    return CulpritAdvice(
        rank=rank,
        name=culprit.name,
        pids=running + ended,
        users=application.users,
        unit=application.unit,
        role=culprit.role,
        score=rounded(culprit.score),
        confidence=rounded(culprit.confidence),
        resources={name: rounded(share) for name, share in culprit.resources.items()},
        frees=frees_of(culprit.frees),
        command=_command(application.main),
        parent=_parent(application.main),
        since=_since(culprit.onset),
        doing=case.doing if case else [],
        evidence=evidence_of(evidence),
        steps=[filled.step for filled in case.filled_steps] if case else [],
        caution=_caution(culprit, case.about) if case else None,
    )


def _command(process: Process | None) -> str | None:
    return " ".join(process.facts.command_line) or None if process else None


def _parent(process: Process | None) -> str | None:
    parent = process.parent if process else None
    return f"{parent.name} ({parent.pid})" if parent else None


def _since(onset: Onset | None) -> Since | None:
    """Return for how long something can have been so, in words as well."""
    if onset is None:
        return None
    key = "bounded" if onset.is_later else "unbounded"
    if onset.of == "log":
        key = "log"
    elif onset.of == "computer":
        key = f"computer-{key}"
    text = wording()["since"][key].format(
        most=span_text(onset.at_most_s or 0.0),
        least=span_text(onset.at_least_s),
        running=span_text(onset.running_s or 0.0),
    )
    at_most_s = None if onset.at_most_s is None else rounded(onset.at_most_s)
    return Since(at_most_s, rounded(onset.at_least_s), text)


def _caution(culprit: Culprit, about: About) -> str | None:
    """Return the caution for steps against a culprit, None for a person's own program."""
    words = wording()["caution"]
    if about.protection:
        reason = wording()["protected"][about.protection]
        return f"{culprit.name} {words['protected'].format(reason=reason)}"
    if culprit.role == "symptom":
        return f"{culprit.name} {words['symptom']}"
    if about.owner_kind not in ("here", "person"):
        return f"{culprit.name} {words['system'].format(users=about.owner or 'an unknown user')}"
    return None


def _finding(finding: Finding, cases: Cases) -> FindingAdvice:
    return FindingAdvice(
        kind=finding.kind,
        severity=finding.severity,
        subject=subject_of(finding),
        text=finding_text(finding),
        evidence=evidence_of(finding.evidence),
        steps=[filled.step for filled in cases.of_finding(finding)],
        since=_since(finding.onset),
        doing=cases.doing_in(finding),
    )


class Judged(NamedTuple):
    """A capture's series, what was found in them, the case of each application, and the triage."""

    series: Series
    diagnosis: Diagnosis
    cases: Cases
    triage: Triage


def advise(
    series: Series,
    diagnosis: Diagnosis,
    complaints: Sequence[str] = (),
    around: Around | None = None,
) -> Judged:
    """Return a diagnosis with its cases and its words; the verdict answers the complaints."""
    cases = Cases(series, diagnosis)
    triage = compose_triage(series, diagnosis, cases, complaints, around)
    return Judged(series, diagnosis, cases, triage)
