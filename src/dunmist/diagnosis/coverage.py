"""How much of what the kernel counted could be given to somebody."""

import numpy as np

from dunmist.diagnosis.words import Resource
from dunmist.series import Series

CPU_LEAST_S = 0.05


def find_coverage(series: Series) -> dict[Resource, float | None]:
    """Return the attributed share of each resource; None where it is not sampled.

    Processor time: that of processes, of short-lived children and of interrupts, against what the
    kernel counted busy. Memory: private pages of processes against the kernel's anonymous ones.
    """
    return {"cpu": _cpu(series), "memory": _memory(series), "disk": None, "link": None}


def _cpu(series: Series) -> float | None:
    machine, processes = series.machine, series.processes
    counted_s = float((machine.busy_cores * machine.interval_s).sum())
    if counted_s < CPU_LEAST_S:
        return None
    cores = processes.all_cores.sum(axis=1) + machine.interrupt_cores
    return min(1.0, float((cores * machine.interval_s).sum()) / counted_s)


def _memory(series: Series) -> float | None:
    anonymous = series.machine.memory_bytes("AnonPages")
    if np.isnan(anonymous).all() or np.nanmax(anonymous) <= 0:
        return None
    private = series.processes.private_bytes.sum(axis=1)
    return min(1.0, float(np.nanmedian(private / np.maximum(anonymous, 1.0))))
