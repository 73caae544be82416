"""Findings about the computer as a whole."""

from datetime import datetime

from dunmist.applications import unit_or_path
from dunmist.captures import Header
from dunmist.computer import KnownUpdates
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.records import EvidenceFigure, Finding, figure
from dunmist.diagnosis.words import EvidenceKey, Severity
from dunmist.timestamps import timestamp_text

S_PER_DAY = 86_400.0
# enough to see a pattern in the times of day
TIMES_SHOWN = 5
UPDATES_SHOWN = 4
UNKNOWN = "?"
# the phases of a start, and what the time of each is called among the evidence
PHASES: dict[str, EvidenceKey] = {
    "firmware_s": "start-firmware",
    "loader_s": "start-loader",
    "kernel_s": "start-kernel",
    "initrd_s": "start-initrd",
    "services_s": "start-services",
}


@finds("slow-start")
def _slow_start(exam: Examination) -> list[Finding]:
    """The start took long: which phase, and which unit the others waited for."""
    last, table = exam.series.surveyed.last, exam.limits.start
    boot = last.boot if last else None
    if boot is None:
        return []
    evidence = [
        figure(key, took_s)
        for phase, key in PHASES.items()
        if (took_s := getattr(boot, phase)) is not None and took_s >= getattr(table, phase)
    ]
    if not evidence:
        return []
    waited_for = [unit for unit in boot.chain if unit.took_s >= table.unit_s]
    evidence += [figure("start-waited-for", unit.took_s, name=unit.name) for unit in waited_for]
    evidence += [
        figure("start-gap", gap.took_s, name=gap.after, next=gap.before)
        for gap in boot.gaps
        if gap.took_s >= table.unit_s
    ]
    if boot.is_cut:
        evidence.append(figure("start-cut", 1.0))
    longest = max(waited_for, key=lambda unit: unit.took_s, default=None)
    return [Finding("slow-start", "note", longest.name if longest else None, evidence)]


@finds("recent-restart", "long-uptime")
def _uptime(exam: Examination) -> list[Finding]:
    uptime_s, table = exam.series.machine.uptime_s, exam.limits.findings
    if uptime_s is None:
        return []
    evidence = [figure("uptime", uptime_s)]
    if uptime_s < table.recent_restart_s:
        return [Finding("recent-restart", "note", None, evidence)]
    if uptime_s > table.long_uptime_s:
        return [Finding("long-uptime", "note", None, evidence)]
    return []


@finds("clock-unsynchronised")
def _clock(exam: Examination) -> list[Finding]:
    survey = exam.series.surveyed.last
    if survey is None or survey.time_sync is None or survey.time_sync.synchronised:
        return []
    evidence = [figure("clock-error", survey.time_sync.greatest_error_s)]
    keeper = exam.series.surveyed.time_keeper
    if keeper is not None:
        evidence.append(figure("clock-service", 1.0, name=keeper))
    return [Finding("clock-unsynchronised", "note", None, evidence)]


@finds("limit-near")
def _tasks(exam: Examination) -> list[Finding]:
    most, count = exam.series.header.inventory.tasks_most, exam.series.machine.tasks.greatest()
    if not most or count is None or count / most < exam.limits.findings.limit_near:
        return []
    return [Finding("limit-near", "urgent", None, [figure("tasks", count, of=float(most))])]


@finds("limit-near")
def _tasks_of_groups(exam: Examination) -> list[Finding]:
    """A service or a login may have no more tasks: what it tries to start fails."""
    findings = []
    for group in exam.series.surveyed.task_limits:
        if group.tasks < exam.limits.findings.limit_near * group.limit:
            continue
        evidence = [
            figure("group-tasks", float(group.tasks), of=float(group.limit), name=group.path)
        ]
        if group.refused:
            evidence.append(figure("tasks-refused", float(group.refused)))
        severity: Severity = "urgent" if group.refused else "concern"
        findings.append(Finding("limit-near", severity, unit_or_path(group.path), evidence))
    return findings


@finds("unclean-restart")
def _starts(exam: Examination) -> list[Finding]:
    """The computer went down without an orderly end: a crash, a freeze, or the power."""
    about, table = exam.series.header, exam.limits.findings
    now_s = datetime.fromisoformat(about.started).timestamp()
    unclean = [
        start.at_s
        for start in about.inventory.starts
        if start.after_order is False and 0 <= now_s - start.at_s <= table.unclean_within_s
    ]
    crashes = [
        crash
        for crash in about.inventory.crashes
        if 0 <= now_s - crash.at_s <= table.unclean_within_s
    ]
    if not unclean and not crashes:
        return []
    evidence = []
    if unclean:
        when = [_patient_time(about, at_s) for at_s in unclean[-TIMES_SHOWN:]]
        evidence.append(
            figure(
                "unclean-starts",
                float(len(unclean)),
                when=when,
                days=table.unclean_within_s / S_PER_DAY,
            )
        )
    if crashes:
        shown = crashes[-TIMES_SHOWN:]
        evidence.append(
            figure(
                "crash-records",
                float(len(crashes)),
                when=[_patient_time(about, boot.at_s) for boot in shown],
                why=[boot.reason or UNKNOWN for boot in shown],
            )
        )
    is_once = len(unclean) < table.unclean_least and not crashes
    return [Finding("unclean-restart", "note" if is_once else "concern", None, evidence)]


def _patient_time(about: Header, at_s: float) -> str:
    """Return a timestamp by the patient's own clock."""
    zone = datetime.fromisoformat(about.started).tzinfo
    return timestamp_text(at_s, zone)


@finds("updates-known", "restart-waiting")
def _waiting(exam: Examination) -> list[Finding]:
    """An update is only half done until the computer is restarted."""
    last = exam.series.surveyed.last
    if last is None:
        return []
    now_s = datetime.fromisoformat(exam.series.header.started).timestamp()
    known = _known_updates(last.updates, now_s)
    if last.pending is None:
        return [Finding("updates-known", "note", None, known)] if known else []
    evidence = []
    pending = last.pending
    if pending.asked_s is not None:
        evidence.append(figure("restart-asked", max(0.0, now_s - pending.asked_s)))
    if pending.newest_kernel is not None:
        running = exam.series.header.machine.kernel
        evidence.append(figure("kernel-older", 1.0, running=running, newest=pending.newest_kernel))
    replaced = len(exam.series.surveyed.replaced)
    if replaced:
        evidence.append(figure("files-replaced", float(replaced)))
    return [Finding("restart-waiting", "note", None, [*evidence, *known])]


def _known_updates(updates: KnownUpdates | None, now_s: float) -> list[EvidenceFigure]:
    """Return the programs with newer versions, and the age of the package lists."""
    if updates is None or not updates.updates:
        return []
    shown = updates.updates[:UPDATES_SHOWN]
    evidence = [
        figure(
            "updates-known",
            float(len(updates.updates)),
            which=[package.name for package in shown],
            installed=[package.installed for package in shown],
            known=[package.known for package in shown],
        )
    ]
    if updates.listed_s is not None:
        evidence.append(figure("lists-age", max(0.0, now_s - updates.listed_s)))
    return evidence
