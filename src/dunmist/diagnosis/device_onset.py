"""Bound since when a device or the computer can be in its state, from its own totals.

A link that has carried 40 GB since it was made, and carries 100 MB/s now, cannot have done so for
longer than 400 s. Sources: what ``series`` keeps of the totals of proc(5) and sysfs.
"""

import math
from collections.abc import Callable, Mapping
from typing import NamedTuple

from dunmist.computer import PowerSupply
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import Finding, Onset
from dunmist.diagnosis.steady import find_steady
from dunmist.diagnosis.words import Kind
from dunmist.series import Rate

S_PER_H = 3600.0
# busy time of disks is counted in 32 bits of milliseconds (Documentation/admin-guide/iostats.rst)
BUSY_WRAPS_S = 2**32 / 1000


class Counted(NamedTuple):
    """A counter's total since the start of the computer, and its rate now."""

    total: float
    per_s: Rate
    is_continuous: bool = True  # false for what comes one by one


def onset_of_device(exam: Examination, finding: Finding) -> Onset | None:
    """Return the onset of a finding; None if no total bounds it."""
    if finding.kind in BATTERY:
        return _of_battery(exam, finding)
    counted = COUNTED[finding.kind](exam, finding) if finding.kind in COUNTED else None
    if counted is None:
        return None
    if counted.is_continuous:
        steady = find_steady(counted.per_s)
        if steady is None:
            return None
        rate, at_least_s = steady.rate, steady.span_s
    else:
        rate, at_least_s = counted.per_s.mean(), 0.0
    running_s = exam.series.machine.uptime_s
    if rate <= 0 or not counted.total or running_s is None:
        return None
    at_most_s = min(max(counted.total / rate, at_least_s), running_s)
    return Onset(at_most_s, min(at_least_s, at_most_s), running_s, "computer")


def _of_battery(exam: Examination, finding: Finding) -> Onset | None:
    """Return the bound of a battery: it was not more than full when it began to empty."""
    supply = exam.series.devices.supplies.get(finding.subject or "")
    gone_s = _emptied_s(supply) if supply is not None else None
    uptime_s = exam.series.machine.uptime_s
    if gone_s is None or uptime_s is None:
        return None
    return Onset(min(gone_s, uptime_s), 0.0, uptime_s, "computer")


def _emptied_s(supply: PowerSupply) -> float | None:
    pairs = (
        (supply.energy_full, supply.energy_now, supply.power_now),
        (supply.charge_full, supply.charge_now, supply.current_now),
    )
    for full, now, per_h in pairs:
        if full is not None and now is not None and per_h:
            return max(0.0, full - now) / abs(per_h) * S_PER_H
    return None


def _link_moved(exam: Examination, finding: Finding) -> Counted | None:
    for link in exam.series.devices.links:
        if link.name == finding.subject and link.moved_bytes is not None:
            return Counted(link.moved_bytes, link.received_bytes_per_s + link.sent_bytes_per_s)
    return None


def _link_failed(exam: Examination, finding: Finding) -> Counted | None:
    for link in exam.series.devices.links:
        if link.name == finding.subject and link.failed_frames is not None:
            return Counted(link.failed_frames, link.errors_per_s, is_continuous=False)
    return None


def _disk_busy(exam: Examination, finding: Finding) -> Counted | None:
    if (exam.series.machine.uptime_s or math.inf) >= BUSY_WRAPS_S:
        return None
    for disk in exam.series.devices.disks:
        if disk.name == finding.subject and disk.busy_in_all_s is not None:
            return Counted(disk.busy_in_all_s, disk.busy)
    return None


def _throttled(exam: Examination, _: Finding) -> Counted | None:
    devices = exam.series.devices
    for kind, total in devices.throttled_in_all.items():
        if devices.throttled[kind].total() > 0:
            return Counted(total, devices.throttled[kind], is_continuous=False)
    return None


def _stolen(exam: Examination, _: Finding) -> Counted | None:
    machine = exam.series.machine
    shares = [processor.share("steal").known_or(0.0) for processor in machine.processors]
    total_s = machine.stolen_in_all / exam.series.header.machine.clock_ticks_per_s
    return Counted(total_s, Rate.total_of(machine.line, shares))


def _paged(exam: Examination, _: Finding) -> Counted | None:
    machine = exam.series.machine
    words = [word for word in ("pswpin", "pswpout") if word in machine.paging]
    rate = Rate.total_of(machine.line, [machine.paging[word].known_or(0.0) for word in words])
    return Counted(sum(machine.paged[word] for word in words), rate)


def _memory_stalled(exam: Examination, _: Finding) -> Counted | None:
    machine = exam.series.machine
    if "memory" not in machine.stalled:
        return None
    return Counted(machine.stalled_in_all_s["memory"], machine.stalled["memory"])


def _storage_filled(exam: Examination, finding: Finding) -> Counted | None:
    """Return the used bytes of a file system, the upper bound of its growth."""
    rate = next(
        (figure.value for figure in finding.evidence if figure.key == "storage-fills"), None
    )
    used = next((figure for figure in finding.evidence if figure.key == "storage-used"), None)
    size = used.slots.get("of") if used is not None else None
    if rate is None or used is None or not isinstance(size, float):
        return None
    line = exam.series.line
    return Counted(used.value * size, Rate.nothing(line) + rate, is_continuous=False)


BATTERY = ("battery-drain", "charger-weak")
# evidence of the onset, by kind of finding
COUNTED: Mapping[Kind, Callable[[Examination, Finding], Counted | None]] = {
    "link-saturated": _link_moved,
    "link-errors": _link_failed,
    "disk-saturated": _disk_busy,
    "disk-slow": _disk_busy,
    "throttled": _throttled,
    "stolen-time": _stolen,
    "paging-storm": _paged,
    "memory-short": _memory_stalled,
    "storage-filling": _storage_filled,
}
