"""Bound since when an application can do what it does, from totals that the kernel keeps.

A process that uses a whole CPU now and has used two hours of CPU time since it started cannot have
done so for longer than two hours, however long it has run. The same holds for bytes read and
written, and for memory that grows. Sources: proc_pid_stat(5), proc_pid_io(5).
"""

from dataclasses import replace

import numpy as np

from dunmist.diagnosis.device_onset import onset_of_device
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import Finding, Onset
from dunmist.diagnosis.steady import find_steady
from dunmist.diagnosis.words import Kind, ResourceWord
from dunmist.series import Application, Process, Rate

# amounts of a program that a finding is about
TAKES: dict[Kind, ResourceWord] = {
    "cpu-hog": "cpu",
    "core-bound": "cpu",
    "steady-background": "cpu",
    "spawn-storm": "cpu",
    "thread-swarm": "cpu",
    "kernel-busy": "cpu",
    "steady-transfer": "link",
    "memory-growing": "memory",
    "memory-leak": "memory",
}


def find_onset(exam: Examination, application: Application, resource: ResourceWord) -> Onset | None:
    """Return the onset of an application's use at the end; None if nothing bounds it.

    The bound holds for as much as now: with less it may have gone on for longer.
    """
    living = [process for process in application.living if process.last is not None]
    table = exam.limits.culprit
    if resource == "disk":
        total, rate = _moved_bytes(living), application.disk_bytes_per_s
        least = table.moved_least_bytes_per_s
    elif resource in ("memory", "swap"):
        total, rate = application.private_bytes.last(), _growth(application)
        least = exam.limits.findings.leak_bytes_per_s
    elif resource in ("cpu", "core", "heat"):
        total, rate = _cpu_s(exam, living), application.cores
        least = exam.limits.cpu.competes_cores
    elif resource == "link":
        # it cannot have moved more than all links did
        carried = [link.moved_bytes for link in exam.series.devices.outward_links]
        total, rate = sum(filter(None, carried)) or None, application.network_bytes_per_s
        least = exam.limits.findings.transfer_bytes_per_s
    else:
        return None
    steady = find_steady(rate)
    if total is None or steady is None or steady.rate < least:
        return None
    ages = [age_s for process in living if (age_s := exam.age_s(process)) is not None]
    running_s = max(ages, default=None)
    at_most_s = max(total / steady.rate, steady.span_s)
    if running_s is not None:
        at_most_s = min(at_most_s, running_s)
    return Onset(at_most_s, min(steady.span_s, at_most_s), running_s)


def with_onset(exam: Examination, finding: Finding) -> Finding:
    """Return a finding with since when, where totals of its program or of its device tell that."""
    if finding.onset is not None:
        return finding
    resource = TAKES.get(finding.kind)
    if resource is None or finding.application is None:
        return replace(finding, onset=onset_of_device(exam, finding))
    return replace(finding, onset=find_onset(exam, finding.application, resource))


def _cpu_s(exam: Examination, living: list[Process]) -> float:
    """Return the CPU time of the living processes, with that of the children that they reaped."""
    clk_per_s = exam.series.header.machine.clock_ticks_per_s
    used_clk = (
        last.user_clk + last.system_clk + last.children_user_clk + last.children_system_clk
        for process in living
        if (last := process.last) is not None
    )
    return sum(used_clk) / clk_per_s


def _moved_bytes(living: list[Process]) -> float | None:
    moved = [
        process.last.read_bytes + process.last.write_bytes
        for process in living
        if process.last is not None
        and process.last.read_bytes is not None
        and process.last.write_bytes is not None
    ]
    return float(sum(moved)) if moved else None


def _growth(application: Application) -> Rate:
    held = application.private_bytes
    return Rate(held.line, np.diff(held.values) / held.line.interval_s)
