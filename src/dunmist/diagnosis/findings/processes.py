"""Findings about single processes: stuck, ended and not waited for, waiting for locks, leaking."""

from collections import Counter

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.records import EvidenceFigure, Finding, figure
from dunmist.diagnosis.strained_resources import StrainedResources, application_finding
from dunmist.diagnosis.words import Severity
from dunmist.series import Application, Process

CONCERN: Severity = "concern"
NOTE: Severity = "note"
# programs of a frozen group that are named
FROZEN_SHOWN = 4
PARENT = ".."
UNINTERRUPTIBLE, STOPPED, ENDED = "D", ("T", "t"), "Z"


@finds("defunct-pile")
def _defunct(exam: Examination) -> list[Finding]:
    living = exam.series.living
    ended = [process for process in living.values() if process.state == ENDED]
    if len(ended) < exam.limits.findings.defunct:
        return []
    evidence = [figure("defunct", float(len(ended)))]
    ((parent_pid, count),) = Counter(child.facts.ppid for child in ended).most_common(1)
    parent = living.get(parent_pid)
    if parent is None:
        return [Finding("defunct-pile", "note", None, evidence)]
    evidence.append(figure("defunct-parent", float(count), name=parent.name, pid=float(parent_pid)))
    return [Finding("defunct-pile", "note", parent.name, evidence, parent.application)]


@finds("group-frozen")
def _frozen(exam: Examination) -> list[Finding]:
    """Find groups in which nothing may run, although their programs seem to sleep."""
    findings = []
    for group in exam.series.surveyed.frozen_groups:
        inside = [
            process.name
            for process in exam.series.living.values()
            if f"{process.facts.cgroup or ''}/".startswith(f"{group.path}/")
        ]
        # a capture may be forged: no path leads out of the groups
        if inside and PARENT not in group.path.split("/"):
            names = [name for name, _ in Counter(inside).most_common(FROZEN_SHOWN)]
            file = f"/{group.mount}{group.path}/cgroup.freeze"
            evidence = [figure("frozen-group", float(len(inside)), which=names, file=file)]
            subject = group.path.rpartition("/")[2]
            findings.append(Finding("group-frozen", "concern", subject, evidence))
    return findings


@finds("stuck-process")
def _stuck(exam: Examination, strained: StrainedResources) -> list[Finding]:
    """Processes that did nothing but wait uninterruptibly, or are stopped."""
    if strained.has("memory", "disk"):
        return []  # those who wait for pages or the disk are victims, not findings
    stuck: dict[tuple[str, Application], list[list[EvidenceFigure]]] = {}
    for process in exam.series.living.values():
        # a process that waits for an answer wakes up now and then to ask again
        asks_s = exam.limits.findings.stuck_cores * exam.series.duration_s
        if process.facts.kernel or process.cpu_s > asks_s or process.first_row != 0:
            continue
        moved = (process.read_bytes_per_s + process.write_bytes_per_s).known_or(0.0).values
        if moved[len(moved) // 2 :].any():
            continue  # its requests are still answered, however slowly
        if evidence := _stuck_evidence(exam, process):
            stuck.setdefault((process.name, process.application), []).append(evidence)
    findings = []
    for (name, application), (evidence, *others) in stuck.items():
        if others:
            evidence.append(figure("stuck-processes", float(len(others) + 1)))
        findings.append(Finding("stuck-process", "concern", name, evidence, application))
    return findings


def _stuck_evidence(exam: Examination, process: Process) -> list[EvidenceFigure]:
    pid = float(process.pid)
    if process.state in STOPPED and process.cpu_s <= 0:
        return [figure("state-T", pid)]
    long_enough = exam.series.ticks >= exam.limits.findings.stuck_ticks
    last = process.last
    if last is None or last.state != UNINTERRUPTIBLE or not long_enough:
        return []
    if set(process.states) == {UNINTERRUPTIBLE}:
        return [figure("state-D", pid, function=last.waits_in)]
    return []


@finds("lock-wait")
def _locks(exam: Examination) -> list[Finding]:
    """Processes that waited for the same file lock at the beginning and at the end."""
    surveys, living = exam.series.surveyed.surveys, exam.series.living
    if len(surveys) < 2:
        return []
    waits = [{(lock.waiter, lock.holder) for lock in survey.locks} for survey in surveys]
    waiters: Counter[tuple[Application, int]] = Counter(
        (living[waiter].application, holder)
        for waiter, holder in sorted(waits[0] & waits[-1])
        if waiter in living
    )
    findings = []
    for (application, holder), count in waiters.items():
        if holder not in living:
            evidence = [figure("lock-held-unseen", float(holder))]
        elif living[holder].application is application:
            evidence = [figure("lock-held-own", float(holder))]
        else:
            evidence = [figure("lock-held", float(holder), name=living[holder].name)]
        if count > 1:
            evidence.append(figure("lock-waiters", float(count)))
        findings.append(application_finding("lock-wait", "concern", application, evidence))
    return findings


@finds("descriptor-leak", "limit-near")
def _descriptors(exam: Examination) -> list[Finding]:
    table, findings = exam.limits.findings, []
    for process in exam.series.processes.values():
        first, last = process.first_detail, process.detail
        if first is None or last is None or process.application.observer:
            continue
        if first.descriptors is None or last.descriptors is None:
            continue
        limit = last.descriptor_limit
        now = figure("descriptors", float(last.descriptors), of=float(limit or 0))
        grown = last.descriptors - first.descriptors
        rise = grown / exam.series.duration_s
        about = (process.name, process.application)
        # some more for a moment's work are no leak
        if rise >= table.descriptor_rise_per_s and grown >= table.descriptor_grown_least:
            evidence, severity = [figure("descriptors-rise", rise), now], CONCERN
            age_s = exam.age_s(process)
            if age_s is not None and age_s < table.leak_age_s:
                # a process that has just started opens the files that it needs
                evidence.append(figure("app-age", age_s))
                severity = NOTE if grown < table.descriptor_grown_young else CONCERN
            findings.append(Finding("descriptor-leak", severity, about[0], evidence, about[1]))
        # a limit below what is open already was set afterwards, so nothing comes near it
        if limit is None or limit < max(table.limit_least, last.descriptors):
            continue
        if last.descriptors / limit >= table.limit_near:
            findings.append(Finding("limit-near", "concern", about[0], [now], about[1]))
    return findings
