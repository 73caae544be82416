"""Since when an application can have done what it does: bounds from totals that the kernel keeps.

A process that uses a whole CPU now and has used two hours of CPU time since it started cannot have
done so for longer than two hours, however long it has run. The same holds for bytes read and
written, and for memory that grows. Sources: proc_pid_stat(5), proc_pid_io(5).
"""

from dataclasses import replace
from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import Finding, Onset
from dunmist.diagnosis.words import Kind, ResourceWord
from dunmist.series import Application, Process, Rate

# a rate that is half of the newest one is another state
SAME_SHARE = 0.5
# intervals whose median is the newest rate
NEWEST = 3


# what a finding says that a program takes
TAKES: dict[Kind, ResourceWord] = {
    "cpu-hog": "cpu",
    "core-bound": "cpu",
    "steady-background": "cpu",
    "spawn-storm": "cpu",
    "thread-swarm": "cpu",
    "kernel-busy": "cpu",
    "memory-growing": "memory",
    "memory-leak": "memory",
}


class _Steady(NamedTuple):
    """What it took at the end of the capture without a break: a second, and for how long."""

    rate: float
    span_s: float


def find_onset(exam: Examination, application: Application, resource: ResourceWord) -> Onset | None:
    """Return since when an application takes what it took at the end; None where nothing tells.

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
    else:
        return None
    steady = _steady(rate)
    if total is None or steady is None or steady.rate < least:
        return None
    ages = [age_s for process in living if (age_s := exam.age_s(process)) is not None]
    running_s = max(ages, default=None)
    at_most_s = max(total / steady.rate, steady.span_s)
    if running_s is not None:
        at_most_s = min(at_most_s, running_s)
    return Onset(at_most_s, min(steady.span_s, at_most_s), running_s)


def with_onset(exam: Examination, finding: Finding) -> Finding:
    """Return a finding with since when, where totals of its program tell that."""
    resource = TAKES.get(finding.kind)
    if resource is None or finding.application is None:
        return finding
    return replace(finding, onset=find_onset(exam, finding.application, resource))


def _cpu_s(exam: Examination, living: list[Process]) -> float:
    """Return what the living ones have used, with the children that they waited for."""
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


def _steady(rate: Rate) -> _Steady | None:
    """Return the rate that lasted until the end, None where nothing is known of the end."""
    values, spans_s = np.nan_to_num(rate.values), rate.line.interval_s
    newest = float(np.median(values[-NEWEST:]))
    if newest <= 0:
        return None
    others = np.flatnonzero(values < SAME_SHARE * newest)
    # a single odd interval at the very end is no other state
    first = int(others[others < len(values) - NEWEST].max(initial=-1)) + 1
    lasted, lasted_s = values[first:], spans_s[first:]
    return _Steady(float((lasted * lasted_s).sum() / lasted_s.sum()), float(lasted_s.sum()))
