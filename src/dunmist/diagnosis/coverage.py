"""How much of what the kernel counted could be given to somebody."""

import numpy as np

from dunmist.diagnosis.words import Resource
from dunmist.series import Series
from dunmist.series.rates import Floats

CPU_LEAST_S = 0.05
TRAFFIC_LEAST_BYTES = 1 << 20  # below that there is nothing to attribute


def find_coverage(series: Series) -> dict[Resource, float | None]:
    """Return the attributed share of each resource; None where nothing was sampled or moved.

    Processor time: that of processes, of short-lived children and of interrupts, against what the
    kernel counted busy. Memory: private pages of processes against the kernel's anonymous ones.
    Disk: bytes that processes read and caused to be written against those that disks moved. Link:
    bytes over TCP with other computers against those that links carried.
    """
    return {
        "cpu": _cpu(series),
        "memory": _memory(series),
        "disk": _disk(series),
        "link": _link(series),
    }


def attributed_cpu_s(series: Series) -> tuple[float, float]:
    """Return processor seconds attributed to somebody, and those that the kernel counted busy.

    The kernel counts the second by looking at each clock tick who runs, and the first exactly, so
    that over a short capture the first may be the greater.
    """
    machine, processes = series.machine, series.processes
    cores = processes.all_cores.sum(axis=1) + machine.interrupt_cores
    attributed_s = float((cores * machine.interval_s).sum())
    return attributed_s, float((machine.busy_cores * machine.interval_s).sum())


def _cpu(series: Series) -> float | None:
    attributed_s, counted_s = attributed_cpu_s(series)
    return None if counted_s < CPU_LEAST_S else min(1.0, attributed_s / counted_s)


def _memory(series: Series) -> float | None:
    anonymous = series.machine.memory_bytes("AnonPages")
    if np.isnan(anonymous).all() or np.nanmax(anonymous) <= 0:
        return None
    private = series.processes.private_bytes.sum(axis=1)
    return min(1.0, float(np.nanmedian(private / np.maximum(anonymous, 1.0))))


def _disk(series: Series) -> float | None:
    processes = series.processes
    moved = [one.bytes_per_s for one in series.devices.disks if one.is_physical]
    return _traffic(series, moved, processes.read_bytes_per_s + processes.write_bytes_per_s)


def _link(series: Series) -> float | None:
    links = [one for one in series.devices.links if not one.is_loopback]
    # what a tunnel or a bridge carries is carried by the link below it once more
    physical = [one for one in links if one.about and one.about.physical] or links
    moved = [one.received_bytes_per_s + one.sent_bytes_per_s for one in physical]
    return _traffic(series, moved, series.sent_bytes_per_s + series.received_bytes_per_s)


def _traffic(series: Series, moved: list[Floats], attributed: Floats) -> float | None:
    interval_s = series.machine.interval_s
    total = sum(float(np.nansum(rate * interval_s)) for rate in moved)
    if total < TRAFFIC_LEAST_BYTES:
        return None
    return min(1.0, float((attributed * interval_s[:, None]).sum()) / total)
