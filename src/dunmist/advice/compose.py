"""Puts a whole diagnosis into words: the triage document."""

import math

from dunmist.advice.about import About, about_application, what_it_is
from dunmist.advice.amounts import amount_text, percent, plain_number, size_text
from dunmist.advice.rungs import culprit_rungs, finding_rungs, living
from dunmist.advice.tables import ladder, wording
from dunmist.advice.triage import (
    BlindSpot,
    CaptureFacts,
    CulpritAdvice,
    Evidence,
    FindingAdvice,
    ResourceAdvice,
    Triage,
    Verdict,
)
from dunmist.captures import Unseen
from dunmist.diagnosis import Culprit, Diagnosis, Finding, ResourceState, Sign
from dunmist.series import Series

# the second is nearly as strong from this part of the first on
TIE = 0.7
WELL_COVERED = 0.8
FEW_INTERVALS = 8
# what tells what a program is
WHAT_SOURCES = "the catalogue, package databases, unit files"
# figures that are a share of a number of bytes
OF_BYTES = ("memory-available", "storage-used", "swap-used")
# from this confidence on, the word for it
SURE = ((0.85, "very"), (0.6, "likely"), (0.0, "unsure"))


def compose_triage(series: Series, diagnosis: Diagnosis) -> Triage:
    """Return the triage document of a diagnosis."""
    header = series.header
    return Triage(
        capture=CaptureFacts(
            path=str(series.path),
            host=header.machine.host,
            started=header.started,
            duration_s=round(series.duration_s, 3),
            ticks=series.ticks,
            privileged=header.privileged,
        ),
        verdict=Verdict(
            headline=headline(series, diagnosis),
            level=diagnosis.level,
            limiting=diagnosis.limiting,
            confidence=_rounded(diagnosis.confidence),
        ),
        resources=[_resource(state) for state in diagnosis.resources],
        culprits=[
            _culprit(series, rank, culprit, diagnosis)
            for rank, culprit in enumerate(diagnosis.culprits, start=1)
        ],
        findings=[_finding(series, finding, diagnosis) for finding in diagnosis.findings],
        coverage={
            name: None if share is None else _rounded(share)
            for name, share in diagnosis.coverage.items()
        },
        blind_spots=_blind_spots(series),
    )


def headline(series: Series, diagnosis: Diagnosis) -> str:
    """Return the verdict in one sentence that can be repeated on the phone."""
    words = wording()["headline"]
    if diagnosis.limiting is None:
        fullest = max(diagnosis.resources, key=lambda state: state.used)
        return words["calm" if diagnosis.level == "calm" else "busy"].format(
            resource=wording()["resource"][fullest.resource],
            used=percent(fullest.used),
            found=_found(diagnosis),
        )
    resource = wording()["resource"][diagnosis.limiting]
    about = {"resource": resource[0].upper() + resource[1:], "level": diagnosis.level}
    if diagnosis.outside:
        text, first = _finding_text(diagnosis.outside), first_action(series, diagnosis) or ""
        return words["outside"].format(finding=text, first=first, **about).rstrip()
    if not diagnosis.culprits:
        return words["nobody"].format(found=_found(diagnosis), **about)
    culprit = diagnosis.culprits[0]
    if culprit.role != "cause":
        return words["symptom"].format(name=culprit.name, **about)
    drives = wording()["drives"][diagnosis.limiting].format(amount=percent(culprit.score))
    return words["cause"].format(
        name=culprit.name,
        drives=drives,
        sure=_sure(diagnosis),
        first=first_action(series, diagnosis),
        **about,
    )


def _found(diagnosis: Diagnosis) -> str:
    """Return the foremost finding that is more than a note, with a blank before it, or nothing."""
    foremost = next((one for one in diagnosis.findings if one.severity != "note"), None)
    if foremost is None:
        return ""
    return " " + wording()["headline"]["found"].format(finding=_finding_text(foremost))


def _finding_text(finding: Finding) -> str:
    return wording()["finding"][finding.kind].format(subject=finding.subject)


def first_action(series: Series, diagnosis: Diagnosis) -> str | None:
    """Return what to do first, as it goes after that word; None where nothing limits."""
    if diagnosis.limiting is None:
        return None
    if diagnosis.outside:
        rungs = finding_rungs(series, diagnosis.outside, diagnosis)
        return rungs[0].step.text if rungs else None
    if not diagnosis.culprits:
        return None
    rungs = culprit_rungs(series, diagnosis.culprits[0], diagnosis)
    by_action = {rung.step.action: rung.brief for rung in rungs}
    wanted = (by_action[action] for action in ladder()["first"].get(diagnosis.limiting, ())
              if action in by_action)  # fmt: skip
    return next(wanted, rungs[0].brief)


def _sure(diagnosis: Diagnosis) -> str:
    first = diagnosis.culprits[0]
    word = next(word for least, word in SURE if first.confidence >= least)
    return wording()["sure"][word].format(amount=percent(first.confidence), why=_doubt(diagnosis))


def _doubt(diagnosis: Diagnosis) -> str:
    """Return what keeps the confidence down, and what to do about it."""
    words = wording()["unsure"]
    causes = [one for one in diagnosis.culprits if one.role == "cause"]
    covered = diagnosis.coverage.get("cpu")
    if len(causes) > 1 and causes[1].score >= TIE * causes[0].score:
        return words["tie"].format(rival=causes[1].name)
    if covered is not None and covered < WELL_COVERED:
        return words["hidden"]
    return words["short" if diagnosis.intervals < FEW_INTERVALS else "other"]


def _resource(state: ResourceState) -> ResourceAdvice:
    return ResourceAdvice(
        resource=state.resource,
        name=state.name,
        level=state.level,
        used=_rounded(state.used),
        pressure=None if state.pressure is None else _rounded(state.pressure),
        errors=state.errors,
        evidence=_evidence(state.signs),
    )


def _culprit(series: Series, rank: int, culprit: Culprit, diagnosis: Diagnosis) -> CulpritAdvice:
    grouping = series.processes.grouping
    application = grouping.applications[culprit.application]
    facts = [grouping.facts(member) for member in application.members]
    users = sorted({fact.user for fact in facts if fact.user is not None})
    running = [grouping.facts(one).pid for one in living(series, culprit.application)]
    ended = sorted({fact.pid for fact in facts} - set(running))
    about = about_application(series, culprit.application)
    return CulpritAdvice(
        rank=rank,
        name=culprit.name,
        pids=running + ended,
        users=users,
        unit=application.unit,
        role=culprit.role,
        score=_rounded(culprit.score),
        confidence=_rounded(culprit.confidence),
        resources={name: _rounded(share) for name, share in culprit.resources.items()},
        evidence=[*_evidence(culprit.signs), *(_what(about) if about else ())],
        steps=[rung.step for rung in culprit_rungs(series, culprit, diagnosis)],
        caution=_caution(culprit, about) if about else None,
    )


def _what(about: About) -> list[Evidence]:
    sign = Sign("what-it-is", float(about.pid), "process number", WHAT_SOURCES,
                name=what_it_is(about))  # fmt: skip
    return _evidence([sign])


def _caution(culprit: Culprit, about: About) -> str | None:
    """Return what to mind before touching a culprit, None for a program of a person."""
    words = wording()["caution"]
    if about.protection:
        reason = wording()["protected"][about.protection]
        return f"{culprit.name} {words['protected'].format(reason=reason)}"
    if culprit.role == "symptom":
        return f"{culprit.name} {words['symptom']}"
    if about.owner_kind not in ("here", "person"):
        return f"{culprit.name} {words['system'].format(users=about.owner or 'an unknown user')}"
    return None


def _finding(series: Series, finding: Finding, diagnosis: Diagnosis) -> FindingAdvice:
    return FindingAdvice(
        kind=finding.kind,
        severity=finding.severity,
        subject=finding.subject,
        text=_finding_text(finding),
        evidence=_evidence(finding.signs),
        steps=[rung.step for rung in finding_rungs(series, finding, diagnosis)],
    )


def _evidence(signs: list[Sign]) -> list[Evidence]:
    return [
        Evidence(
            text=wording()["evidence"][sign.key].format(
                amount=amount_text(sign.value, sign.unit, sign.of),
                of=_of_text(sign),
                name=sign.name,
            ),
            value=_rounded(sign.value),
            unit=sign.unit,
            source=sign.source,
        )
        for sign in signs
    ]


def _of_text(sign: Sign) -> str:
    if sign.of is None:
        return ""
    if sign.key == "heat-rise":
        return percent(sign.of)
    is_size = sign.unit == "bytes" or sign.key in OF_BYTES
    return size_text(sign.of) if is_size else plain_number(sign.of)


def _blind_spots(series: Series) -> list[BlindSpot]:
    unseen = series.footer.blind_spots if series.footer else series.header.blind_spots
    words = wording()
    spots = [
        BlindSpot(
            what=words["blind_spot"].get(one.subject, one.subject),
            why=words["why"][one.reason] + (f" ({one.count} of them)" if one.count > 1 else ""),
            remedy=words["remedy"][_remedy_key(one, series)],
        )
        for one in unseen
    ]
    if series.damage:
        spots.append(BlindSpot("the end of the capture", series.damage, "sample again"))
    if series.missed:
        spots.append(
            BlindSpot(
                f"{series.missed} ticks",
                "the computer was too busy to sample in time",
                "sample again with a longer --every",
            )
        )
    return spots


def _remedy_key(unseen: Unseen, series: Series) -> str:
    if unseen.reason == "permission" and series.header.privileged:
        return "permission-privileged"
    return unseen.reason


def _rounded(value: float) -> float:
    return 0.0 if math.isnan(value) else float(f"{value:.4g}")
