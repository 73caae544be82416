"""Findings about processors: who fills them, and what takes them away."""

from collections import Counter, defaultdict

import numpy as np

from dunmist.diagnosis.cpu_binding import find_bindings
from dunmist.diagnosis.cpu_starvation import find_starved
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.local_clients import serving_evidence
from dunmist.diagnosis.quotas import find_quotas
from dunmist.diagnosis.real_time import real_time_evidence
from dunmist.diagnosis.records import EvidenceFigure, Finding, figure
from dunmist.diagnosis.resources import Bound, find_bound
from dunmist.diagnosis.started_programs import started_evidence
from dunmist.diagnosis.strained_resources import StrainedResources, application_finding
from dunmist.diagnosis.words import Kind, Severity
from dunmist.series import Application, Rate

HZ_PER_MHZ = 1e6
# the local timer interrupts every CPU all the time (/proc/interrupts)
TIMER = "LOC"
# further single threads are part of the same story
BOUND_SHOWN = 3
# constant CPU load: of most CPUs, or a little
HOG: tuple[Kind, Severity] = ("cpu-hog", "concern")
BACKGROUND: tuple[Kind, Severity] = ("steady-background", "note")


@finds("core-bound")
def _core_bound(exam: Examination) -> list[Finding]:
    by_application: dict[Application, list[Bound]] = defaultdict(list)
    # more CPUs would help one that may only run on some
    elsewhere = {binding.application for binding in exam.once(find_bindings)}
    for bound in exam.once(find_bound):
        by_application[bound.process.application].append(bound)
    return [
        Finding(
            "core-bound",
            "concern",
            same[0].process.name,
            [
                *(
                    figure("app-full", bound.full_share, pid=float(bound.process.pid))
                    for bound in same[:BOUND_SHOWN]
                    if bound.key == "core-full"
                ),
                *started_evidence(exam, application),
                *real_time_evidence(exam, application),
                *serving_evidence(exam, application),
            ],
            application,
        )
        for application, same in by_application.items()
        if application not in elsewhere
    ]


@finds("cpu-hog", "steady-background")
def _use(exam: Examination) -> list[Finding]:
    """Find who uses processors all the time: most of them, or a little in the background."""
    table = exam.limits.findings
    bound = {bound.process.application.number for bound in exam.once(find_bound)}
    findings = []
    for application in exam.applications:
        if application.observer or application.kernel or application.number in bound:
            continue
        if (application.cores.greatest() or 0.0) < table.steady_cores:
            continue
        if application.number in exam.once(find_starved):
            continue
        usual = exam.typical(application.cores)
        evidence = [figure("app-cores-typical", usual, of=exam.processors)]
        gives_way = application.low_priority >= exam.limits.cpu.low_priority_share
        if gives_way:
            evidence.append(figure("app-low-priority", application.low_priority))
        if (
            not gives_way
            and min(usual, application.cores.mean()) / exam.processors >= table.cpu_hog
        ):
            kind, severity = HOG
        elif exam.steady(application.cores) >= max(table.steady_cores, table.steady_spread * usual):
            kind, severity = BACKGROUND
        else:
            continue
        evidence += real_time_evidence(exam, application) + started_evidence(exam, application)
        evidence += serving_evidence(exam, application)
        findings.append(application_finding(kind, severity, application, evidence))
    return findings


@finds("spawn-storm")
def _spawn_storm(exam: Examination) -> list[Finding]:
    table = exam.limits.findings
    forks = exam.typical(exam.series.machine.forks_per_s)
    if forks < table.spawn_forks_per_s or not exam.applications:
        return []
    # the starter of unseen children makes the storm, not the busiest program that was seen
    first = max(exam.applications, key=lambda application: application.short_lived_cores.mean())
    short = first.short_lived_cores.mean()
    if short < table.spawn_cores:
        return []
    evidence = [figure("forks", forks), figure("app-short-lived", short, of=exam.processors)]
    evidence += started_evidence(exam, first)
    return [application_finding("spawn-storm", "concern", first, evidence)]


@finds("many-threads", "thread-swarm")
def _thread_swarm(exam: Examination, strained: StrainedResources) -> list[Finding]:
    table = exam.limits.findings
    findings = []
    for process in exam.series.processes.values():
        if process.last is None or process.last.threads < table.thread_swarm:
            continue
        if not strained.has("cpu"):
            # they harm nobody, and are an odd lot all the same
            if process.last.threads >= table.threads_odd and process.is_alive:
                evidence = [figure("threads", float(process.last.threads))]
                findings.append(
                    application_finding("many-threads", "note", process.application, evidence)
                )
            continue
        waits = exam.typical(process.application.waiting)
        if waits >= table.swarm_waiting:
            evidence = [
                figure("threads", float(process.last.threads)),
                figure("app-waiting", waits),
            ]
            findings.append(
                application_finding("thread-swarm", "concern", process.application, evidence)
            )
    return findings


@finds("stolen-time")
def _stolen_time(exam: Examination) -> list[Finding]:
    shares = np.array(
        [processor.share("steal").values for processor in exam.series.machine.processors]
    )
    known = ~np.isnan(shares)
    mean = np.where(known, shares, 0.0).sum(axis=0) / np.maximum(known.sum(axis=0), 1)
    usual = exam.typical(Rate(exam.series.line, mean))
    if usual < exam.limits.findings.stolen:
        return []
    return [Finding("stolen-time", "concern", None, [figure("cpu-steal", usual)])]


@finds("interrupt-storm")
def _interrupts(exam: Examination) -> list[Finding]:
    """A device that interrupts all the time; not what CPUs and programs here send each other."""
    processors = exam.series.machine.processors
    usual = [exam.typical(processor.share("irq", "softirq")) for processor in processors]
    fullest = int(np.argmax(usual))
    if usual[fullest] < exam.limits.findings.interrupts:
        return []
    name = f"cpu{processors[fullest].number}"
    evidence = [figure("interrupt-share", usual[fullest], name=name)]
    sources = exam.series.devices.interrupts
    if sources:
        source = max(sources, key=lambda each: 0 if each.startswith(TIMER) else sources[each])
        # those of devices have numbers, those of the CPUs themselves have letters
        if not source[0].isdigit():
            return []
        rate = sources[source] / exam.series.line.measured_s
        evidence.append(figure("interrupt-source", rate, name=source))
    elif exam.typical(processors[fullest].share("irq")) < exam.limits.findings.interrupts_hard:
        return []
    return [Finding("interrupt-storm", "urgent", name, evidence)]


@finds("kernel-busy")
def _kernel(exam: Examination) -> list[Finding]:
    findings = []
    for application in exam.applications:
        usual = exam.typical(application.cores) if application.kernel else 0.0
        if usual >= exam.limits.findings.kernel_cores:
            evidence = [figure("app-cores-typical", usual, of=exam.processors)]
            findings.append(application_finding("kernel-busy", "concern", application, evidence))
    return findings


@finds("quota-limited")
def _quotas(exam: Examination) -> list[Finding]:
    return [
        Finding(
            "quota-limited",
            "concern",
            quota.path.rpartition("/")[2] or quota.path,
            [
                figure("quota-limited", quota.limited),
                figure("quota", quota.cores, of=exam.processors),
            ],
        )
        for quota in exam.once(find_quotas)
    ]


@finds("low-clock")
def _low_clock(exam: Examination, strained: StrainedResources) -> list[Finding]:
    """Find busy CPUs whose clock is held low, and not by heat.

    The greatest clock is for a few processors at a time; with all at work a thin computer has less
    than half of it. What each is promised is the base clock, where that is published.
    """
    machine, table = exam.series.machine, exam.limits.heat
    most_hz = machine.most_clock_hz
    if most_hz is None or strained.has("heat"):
        return []
    busy = [
        processor
        for processor in machine.processors
        if processor.clock_hz is not None and exam.typical(processor.busy) >= table.busy_processor
    ]
    promised_hz = [processor.base_clock_hz for processor in busy if processor.base_clock_hz]
    if promised_hz:
        least = table.below_base * max(promised_hz) / most_hz
    else:
        crowded = len(busy) > table.few_processors * len(machine.processors)
        least = table.low_clock_crowded if crowded else table.low_clock
    ratios = [
        (processor.clock_hz.at_ends() / most_hz).where(
            processor.busy.at_least(table.busy_processor)
        )
        for processor in machine.processors
        if processor.clock_hz
    ]
    if not ratios:
        return []
    fastest = Rate.greatest_of(ratios)
    usual = exam.typical(fastest)
    if not fastest.is_known or usual > least:
        return []
    evidence = [figure("low-clock", usual, of=most_hz / HZ_PER_MHZ), *_why_low(exam)]
    return [Finding("low-clock", "urgent", None, evidence)]


def _why_low(exam: Examination) -> list[EvidenceFigure]:
    """Return possible reasons for a low clock: a power-saving governor, a low battery."""
    governors = Counter(
        processor.hardware.governor
        for processor in exam.series.machine.processors
        if processor.hardware and processor.hardware.governor
    )
    evidence = [
        figure("clock-governor", float(count), name=name)
        for name, count in governors.most_common(1)
    ]
    evidence += [
        figure("clock-battery", (supply.capacity_percent or 0) / 100.0, name=supply.name)
        for supply in exam.series.devices.supplies.values()
        if supply.kind == "battery" and supply.status == "discharging"
    ]
    return evidence
