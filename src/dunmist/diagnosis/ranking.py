"""Rank the applications by their part in the limiting resource, each with its role."""

from dunmist.diagnosis.confidence import confidence_of, data_quality
from dunmist.diagnosis.core_services import CORE_SERVICES
from dunmist.diagnosis.cpu_starvation import find_starved
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.io_wait import find_io_wait
from dunmist.diagnosis.local_clients import serving_evidence
from dunmist.diagnosis.onset import find_onset
from dunmist.diagnosis.real_time import real_time_evidence
from dunmist.diagnosis.records import Culprit, EvidenceFigure, figure
from dunmist.diagnosis.resources import Resource, find_bound
from dunmist.diagnosis.started_programs import started_evidence
from dunmist.diagnosis.words import EvidenceKey, ResourceWord, Role
from dunmist.series import Application
from dunmist.thresholds.culprits import CulpritLimits

ROLE_ORDER: tuple[Role, ...] = ("cause", "symptom", "victim")
BLOCKED_KEYS: dict[str, EvidenceKey] = {
    "storage": "app-blocked-storage",
    "pages": "app-blocked-pages",
    "lock": "app-blocked-lock",
    "other": "app-blocked-other",
}


def rank_culprits(exam: Examination, limiting: Resource) -> list[Culprit]:
    """Return the ranked applications: causes by their part, then symptoms, then victims."""
    if limiting.demand is None:
        return []
    covered = exam.once(limiting.coverage) if limiting.coverage else None
    if covered is not None and covered < exam.limits.culprit.attributed_least:
        return []  # the visible programs are not the cause
    scores = [float(part) for part in limiting.demand(exam).parts]
    table = exam.limits.culprit
    ranked: list[tuple[Role, float, Application]] = []
    for application, score in zip(exam.applications, scores, strict=True):
        role = _role(exam, application, score, limiting.word)
        counts = role == "victim" or (role != "observer" and score >= table.least_score)
        if counts:
            ranked.append((role, score, application))
    ranked.sort(key=lambda entry: (ROLE_ORDER.index(entry[0]), -entry[1]))
    causes = [score for role, score, _ in ranked if role == "cause"]
    partners = _partners(causes, table)
    together = [sum(causes[:partners]), *causes[partners:]]
    # naming the first of many equals would be a guess, and naming some of them as well
    are_few = partners <= table.partners_most and together[0] >= table.partners_least
    if causes and causes[0] < table.least_first and not (partners and are_few):
        return []  # many small ones: nobody is the cause
    quality = data_quality(
        covered, exam.series.line.intervals, exam.limits, exam.series.taken_share
    )
    return [
        Culprit(
            application=application,
            role=role,
            score=score,
            confidence=confidence_of(together[0], together, quality, exam.limits)
            if index < partners
            else confidence_of(score, causes, quality, exam.limits),
            resources=_parts(exam, application),
            evidence=_evidence(exam, application, limiting.word, is_victim=role == "victim"),
            frees=limiting.saving.of(application) if limiting.saving and role == "cause" else None,
            onset=find_onset(exam, application, limiting.word) if role == "cause" else None,
            is_partner=index < partners,
        )
        for index, (role, score, application) in enumerate(ranked[: int(table.most)])
    ]


def _partners(causes: list[float], table: CulpritLimits) -> int:
    """Return the number of leading causes that are about equal; 0 if the first stands alone.

    The causes are ranked by their scores and come before all other roles.
    """
    near = [score for score in causes if score >= table.partner_share * causes[0]]
    return len(near) if len(near) > 1 else 0


def _role(
    exam: Examination, application: Application, score: float, limiting: ResourceWord
) -> Role:
    table = exam.limits.culprit
    if application.observer:
        return "observer"
    if application.kernel or application.unit in CORE_SERVICES:
        return "symptom"
    if limiting in ("disk", "memory"):
        tasks = exam.once(find_io_wait).tasks[application.number]
        waits = tasks.mean() >= table.victim_io_waiting
    elif limiting == "cpu":
        waiting, running = exam.typical(application.waiting), exam.typical(application.cores)
        if application.number in exam.once(find_starved):
            return "victim"
        waits = waiting >= table.victim_waiting and waiting > running
    else:
        waits = False
    return "victim" if waits and score < table.victim_score else "cause"


def _parts(exam: Examination, application: Application) -> dict[ResourceWord, float]:
    machine = exam.series.machine
    held = application.private_bytes.median() or 0.0
    # a capture need not have the breakdown of memory
    total_bytes = machine.managed_bytes or exam.series.header.machine.memory_bytes
    return {
        "cpu": min(1.0, application.cores.total() / machine.online.total()),
        "memory": min(1.0, held / total_bytes),
    }


def _evidence(
    exam: Examination, application: Application, limiting: ResourceWord, *, is_victim: bool
) -> list[EvidenceFigure]:
    table, processors = exam.limits.culprit, exam.processors
    used = (
        figure("app-cores", application.cores.mean(), of=processors),
        figure("app-cores-typical", exam.typical(application.cores), of=processors),
    )
    evidence = [cores for cores in used if cores.value >= table.cores_least]
    bound = next(
        (bound for bound in exam.once(find_bound) if bound.process.application is application), None
    )
    if bound and bound.key == "core-full":
        evidence.insert(0, figure("app-full", bound.full_share, pid=float(bound.process.pid)))
    short = application.short_lived_cores.mean()
    if short >= table.short_lived_least:
        evidence.append(figure("app-short-lived", short, of=processors))
    evidence += real_time_evidence(exam, application)
    evidence += started_evidence(exam, application)
    evidence += serving_evidence(exam, application)
    evidence += _waiting(exam, application, limiting, is_victim=is_victim)
    moved = application.disk_bytes_per_s.mean()
    if moved >= table.moved_least_bytes_per_s:
        evidence.append(figure("app-disk", moved))
    moved = application.network_bytes_per_s.mean()
    if moved >= table.moved_least_bytes_per_s:
        evidence.append(figure("app-link", moved))
    held = application.private_bytes.median() or 0.0
    evidence.append(figure("app-memory", held, of=exam.series.machine.managed_bytes))
    return evidence


def _waiting(
    exam: Examination, application: Application, limiting: ResourceWord, *, is_victim: bool
) -> list[EvidenceFigure]:
    """Return the resources that it waited for; a victim's small ones too, but never 0."""
    table, evidence = exam.limits.culprit, []
    least = table.cores_least if is_victim else table.waiting_least
    waiting = application.waiting.mean()
    io_waiting = exam.once(find_io_wait).tasks[application.number].mean()
    if waiting >= least:
        evidence.append(figure("app-waiting", waiting))
    if io_waiting >= least:
        evidence.append(
            figure("app-page-waiting", io_waiting)
            if limiting == "memory"
            else figure("app-io-waiting", io_waiting)
        )
    for kind, counts in application.blocked.items() if is_victim else ():
        mean = counts.mean()
        if mean >= least:
            evidence.append(figure(BLOCKED_KEYS[kind], mean))
    return evidence
