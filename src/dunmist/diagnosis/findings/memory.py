"""Findings about memory: who holds it, who loses it, and what its lack does."""

from typing import NamedTuple

import numpy as np

from dunmist.applications import unit_of
from dunmist.computer import MemoryEvents
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.records import EvidenceFigure, Finding, figure
from dunmist.diagnosis.strained_resources import StrainedResources, application_finding
from dunmist.diagnosis.words import EvidenceKey, Severity
from dunmist.series import Application, Floats, Process, Rate

# a slope through two points has no error
SLOPE_LEAST = 3
# pairs go with the square: of a long capture so many ticks are taken, evenly
SLOPE_MOST = 240
# the victim, by whether the kernel log names it
VICTIM_KEYS: dict[bool, EvidenceKey] = {True: "oom-told", False: "oom-victim"}


@finds("memory-hog")
def _held(exam: Examination) -> list[Finding]:
    total = exam.series.machine.managed_bytes
    findings = []
    for application in exam.applications:
        held = application.private_bytes.median() or 0.0
        if held >= exam.limits.findings.memory_hog * total:
            evidence = [figure("app-memory", held, of=total)]
            findings.append(application_finding("memory-hog", "concern", application, evidence))
    return findings


@finds("memory-growing", "memory-leak")
def _leaks(exam: Examination) -> list[Finding]:
    table, at_s = exam.limits.findings, exam.series.line.at_s
    findings = []
    for application in exam.applications:
        held = application.private_bytes.values
        # a start-up fills memory as well: only what still grows in the second half counts
        half = len(held) // 2
        if application.observer or float(held[-1] - held[half]) < table.leak_least_bytes:
            continue
        # one process more is no process that grows
        if _grown_by_living(application, half) < table.leak_by_living * (held[-1] - held[half]):
            continue
        slope = growth(held[half:], at_s[half:])
        if slope.typical < table.leak_bytes_per_s or slope.rising < table.leak_rising:
            continue
        evidence = [
            figure("leak", slope.typical),
            figure("leak-least", slope.least),
            figure("leak-rising", slope.rising),
        ]
        age_s = exam.age_s(application.main) if application.main else None
        if age_s is not None and age_s < table.leak_age_s:
            evidence.append(figure("app-age", age_s))
            findings.append(application_finding("memory-growing", "note", application, evidence))
        else:
            findings.append(application_finding("memory-leak", "concern", application, evidence))
    return findings


def _grown_by_living(application: Application, tick: int) -> float:
    """Return the growth in bytes since a tick of the processes that lived through it."""
    grown = (
        process.private_bytes.values[-1] - process.private_bytes.values[tick]
        for process in application.members
        if process.is_alive
    )
    return float(sum(bytes_more for bytes_more in grown if bytes_more > 0))


class Growth(NamedTuple):
    """A robust slope per second, the least it is with 95 %, and the share of steps that rose."""

    typical: float
    least: float
    rising: float


def growth(values: Floats, at_s: Floats) -> Growth:
    """Return the slope that half of all pairs exceed (Theil and Sen); a jump alone gives none."""
    if len(values) < SLOPE_LEAST:
        return Growth(0.0, 0.0, 0.0)
    # few captures have a candidate, so few pay for the import
    from scipy.stats import theilslopes

    rising = float(np.mean(np.diff(values) > 0))
    if len(values) > SLOPE_MOST:
        picked = np.linspace(0, len(values) - 1, SLOPE_MOST).astype(int)
        values, at_s = values[picked], at_s[picked]
    slope = theilslopes(values, at_s, alpha=0.95)
    return Growth(float(slope.slope), float(slope.low_slope), rising)


@finds("memory-short", "memory-limited")
def _short(exam: Examination, strained: StrainedResources) -> list[Finding]:
    """Work that waits for memory: there is too little, or a limit keeps somebody from it."""
    states = strained.of("memory")
    if not states:
        return []
    state = states[0]
    severity: Severity = "urgent" if state.level == "choked" else "concern"
    if 1.0 - state.used < exam.limits.memory.plenty_available:
        return [Finding("memory-short", severity, None, state.evidence)]
    first = max(
        exam.applications,
        key=lambda application: application.major_faults_per_s.mean(),
        default=None,
    )
    if first is None or first.major_faults_per_s.mean() <= 0:
        return [Finding("memory-limited", severity, None, state.evidence)]
    evidence = [*state.evidence, figure("app-major-faults", first.major_faults_per_s.mean())]
    return [application_finding("memory-limited", severity, first, evidence)]


@finds("paging-storm")
def _paging(exam: Examination) -> list[Finding]:
    paging = exam.series.machine.paging
    rates = [paging[word] for word in ("pswpin", "pswpout") if word in paging]
    if not rates:
        return []
    # pages leave in bursts, and are wanted back all the time
    if "pswpout" in paging:
        rates[-1] = rates[-1].over(exam.limits.memory.burst_s)
    # both ways in the same seconds: what only goes out was not needed
    both = Rate(rates[0].line, np.minimum.reduce([rate.values for rate in rates]))
    if exam.typical(both) < exam.limits.findings.paging_pages_per_s / 2:
        return []
    total = exam.typical(sum(rates[1:], rates[0]))
    return [Finding("paging-storm", "urgent", None, [figure("memory-paging", total)])]


@finds("oom-kill")
def _killed(exam: Examination) -> list[Finding]:
    """Programs that the kernel ended: for a limit of their group, or for the whole computer."""
    count = exam.series.machine.killed
    if not count:
        return []
    counted = figure("oom-kills", float(count))
    groups = exam.series.surveyed.out_of_memory()
    if not groups:
        return [Finding("oom-kill", "urgent", None, [counted, *_victim_evidence(exam, "")])]
    return [
        Finding(
            "oom-kill",
            "urgent",
            _unit_ended(exam, group),
            [
                counted,
                figure("oom-group", float(group.limit_bytes), name=path)
                if group.limit_bytes is not None
                else figure("oom-below", float(group.oom), name=path),
                *_victim_evidence(exam, path),
            ],
        )
        for path, group in groups.items()
    ]


def _unit_ended(exam: Examination, group: MemoryEvents) -> str:
    """Return the unit whose limit it was; only its parents know a group that was created again."""
    last = group.path.rpartition("/")[2]
    if group.limit_bytes is not None and unit_of(group.path) == last:
        return last
    victim = _victim(exam, group.path)
    killed = (unit.name for unit in exam.series.surveyed.units if unit.result == "oom-kill")
    return next(killed, None) or (victim.unit if victim else None) or group.path


def _victim_evidence(exam: Examination, path: str) -> list[EvidenceFigure]:
    victim = _victim(exam, path)
    if victim is None:
        return []
    is_logged = victim.pid in _killed_in_log(exam)
    held_bytes = _most_bytes(victim)
    return [figure(VICTIM_KEYS[is_logged], held_bytes, name=victim.name, pid=float(victim.pid))]


def _victim(exam: Examination, path: str) -> Process | None:
    """Return the process of a group that the kernel's log names, else the greatest that ended.

    The kernel takes the greatest. One that is just ending holds nothing any more.
    """
    ended = [
        process
        for process in exam.series.processes.values()
        if not process.is_alive
        and process.last is not None
        and f"{process.facts.cgroup or ''}/".startswith(f"{path}/")
    ]
    logged = _killed_in_log(exam)
    named = [process for process in ended if process.pid in logged]
    return max(named or ended, key=_most_bytes, default=None)


def _killed_in_log(exam: Examination) -> set[int | None]:
    """Return the numbers of processes of which the kernel's log says that it ended them."""
    return {
        complaint.pid
        for complaint in exam.series.complaints
        if complaint.kind == "out-of-memory" and complaint.during
    }


def _most_bytes(process: Process) -> float:
    return process.rss_bytes.greatest() or 0.0


@finds("memory-below-rating", "memory-module-unused")
def _modules(exam: Examination) -> list[Finding]:
    header, table = exam.series.header, exam.limits.findings
    firmware = header.inventory.firmware
    if firmware is None:
        return []
    findings = []
    for module in firmware.modules:
        rated, configured = module.rated_mtps, module.configured_mtps
        if rated and configured and configured < table.below_rating * rated:
            evidence = [figure("module-speed", float(configured), of=float(rated))]
            findings.append(Finding("memory-below-rating", "note", module.slot, evidence))
    listed = float(sum(module.size_bytes or 0 for module in firmware.modules))
    managed = float(header.machine.memory_bytes)
    if listed and (listed - managed) / listed >= table.module_unused:
        evidence = [figure("module-unused", listed - managed, of=listed)]
        findings.append(Finding("memory-module-unused", "concern", None, evidence))
    return findings
