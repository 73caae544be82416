"""Resource ``disk``: every physical disk on its own.

A disk that is always busy limits only when somebody waits for it. One that is busy and moves hardly
anything repeats its work: that is the disk's fault and no program's.
"""

from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.lasting import lasting, lasting_level, trace_of
from dunmist.diagnosis.records import ResourceState, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import Level
from dunmist.series import Series
from dunmist.series.disks import DiskSeries
from dunmist.series.rates import Floats


class DiskState(NamedTuple):
    """One disk judged, and whether it is the disk itself that is slow."""

    disk: DiskSeries
    state: ResourceState
    is_slow: bool


def judge_disks(series: Series, limits: Thresholds) -> list[DiskState]:
    """Return the state of each physical disk, in the kernel's order."""
    held_up, source = held_up_by_disks(series, limits)
    return [
        _judge(series, disk, held_up, source, limits)
        for disk in series.devices.disks
        if disk.is_physical
    ]


def held_up_by_disks(series: Series, limits: Thresholds) -> tuple[Floats, str]:
    """Return the share of time in which somebody but the heaviest waited for a disk, and source.

    Where the kernel accounts the delay of each process (sysctl kernel.task_delayacct) and only one
    application waits, it waits for its own work: a copy at night holds up nobody.
    """
    processes = series.processes
    waiting = processes.io_waiting
    stalled = series.machine.stalled.get("io")
    total = waiting.sum(axis=1)
    held_up = np.minimum(total, 1.0) if stalled is None else stalled
    if total.sum() > 0:
        heaviest = int(np.argmax((processes.read_bytes_per_s + processes.write_bytes_per_s).sum(0)))
        others = total - waiting[:, heaviest]
        alone = lasting(others, series.machine.interval_s, limits["lasting"]["share"])
        if alone < limits["disk"]["others_waiting"]:
            return np.minimum(others, 1.0), "/proc/PID/stat"
    return held_up, "/proc/PID/stat" if stalled is None else "/proc/pressure/io"


def _judge(
    series: Series, disk: DiskSeries, held_up: Floats, source: str, limits: Thresholds
) -> DiskState:
    table, interval_s = limits["disk"], series.machine.interval_s
    share = limits["lasting"]["share"]

    crowded = (disk.queue >= table["crowded_queue"]) & (disk.busy >= table["crowded_used"])

    def met(level: str) -> Floats:
        full = crowded | (disk.busy >= table[f"{level}_used"])
        return (full & (held_up >= table[f"{level}_held_up"])).astype(float)

    conditions: dict[Level, Floats] = {
        "busy": (disk.busy >= table["busy"]).astype(float),
        "strained": met("strained"),
        "choked": met("choked"),
    }
    level = lasting_level(conditions, interval_s, share)
    used = lasting(disk.busy, interval_s, share)
    pressure = lasting(held_up, interval_s, share) if used >= table["busy"] else 0.0
    signs = [
        Sign("disk-busy", used, "share", "/proc/diskstats", name=disk.name),
        Sign("disk-moved", _mean(disk.bytes_per_s, interval_s), "bytes/s", "/proc/diskstats"),
        Sign("disk-queue", _mean(disk.queue, interval_s), "requests", "/proc/diskstats"),
        Sign("disk-held-up", pressure, "share", source),
    ]
    latency = lasting(disk.latency_s, interval_s, share)
    if latency > 0:
        signs.insert(3, Sign("disk-latency", latency, "s", "/proc/diskstats"))
    trace = trace_of(disk.busy, held_up, conditions)
    state = ResourceState("disk", level, used, pressure, signs, name=disk.name, trace=trace)
    return DiskState(disk, state, _is_slow(disk, used, latency, interval_s, limits))


def _is_slow(
    disk: DiskSeries, used: float, latency_s: float, interval_s: Floats, limits: Thresholds
) -> bool:
    table = limits["disk"]
    spins = disk.about is None or disk.about.spins is not False
    slow_s = table["slow_spinning_s" if spins else "slow_solid_s"]
    # a queue makes each request slow: what one takes by itself is what counts
    queue = max(1.0, _mean(disk.queue, interval_s))
    moved = _mean(disk.bytes_per_s, interval_s)
    return (
        used >= table["strained_used"]
        and latency_s / queue >= slow_s
        and moved <= table["slow_bytes_per_s"]
    )


def _mean(values: Floats, weights: Floats) -> float:
    known = ~np.isnan(values)
    return float(np.average(values[known], weights=weights[known])) if known.any() else 0.0
