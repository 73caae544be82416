"""Resources ``memory`` and ``swap``: is there too little memory for the work?

Free memory does not matter, available does; used swap does not matter, traffic to and from it does.
"""

import numpy as np

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import EvidenceFigure, figure
from dunmist.diagnosis.resources.declared import (
    Demand,
    Resource,
    ResourceInstance,
    Saving,
    shares_of,
)
from dunmist.diagnosis.words import LevelWord
from dunmist.series import Rate
from dunmist.thresholds.levels import is_exhausted, memory_levels, memory_levels_by_pages

# counted for programs and files since Linux 5.9 (include/linux/mmzone.h)
REFAULTS = ("workingset_refault_anon", "workingset_refault_file")
SWAPPED = ("pswpin", "pswpout")
RECLAIM = "pgscan_direct"


def pages_per_s(exam: Examination) -> Rate:
    """Return pages that went out to swap or came back; they come in bursts."""
    return exam.series.machine.paging_per_s(*SWAPPED).over(exam.limits.memory.burst_s)


def _both_ways(exam: Examination) -> Rate:
    """Return pages that went out to swap and were wanted back in the same seconds."""
    machine, burst_s = exam.series.machine, exam.limits.memory.burst_s
    there, back = (machine.paging_per_s(word).over(burst_s) for word in ("pswpout", "pswpin"))
    return Rate(machine.line, np.minimum(there.values, back.values))


def _memory(exam: Examination) -> list[ResourceInstance]:
    machine, table = exam.series.machine, exam.limits.memory
    total = machine.memory_bytes("MemTotal").at_ends()
    available = machine.memory_bytes("MemAvailable").at_ends() / total
    # available counts what the kernel can drop at once; free memory does not
    used = (available * -1.0 + 1.0).between(0.0, 1.0)
    paging, refaults = pages_per_s(exam), machine.paging_per_s(*REFAULTS)
    stalled = machine.stalled.get("memory")
    if stalled is not None:
        # pages are written out in bursts, and those who wait for them wait in bursts
        stalled = stalled.over(table.burst_s)
        conditions = memory_levels(used, available, stalled, _both_ways(exam), table)
    else:
        conditions = memory_levels_by_pages(used, available, paging + refaults, table)
    left_bytes = available * total + machine.memory_bytes("SwapFree").at_ends().known_or(0.0)
    conditions["strained"] |= is_exhausted(available, left_bytes, table)
    evidence = [
        figure("memory-available", exam.typical(available), of=total.median() or 0.0),
        figure("memory-paging", exam.typical(paging)),
    ]
    if stalled is not None:
        evidence.append(figure("memory-pressure", exam.typical(stalled)))
    evidence += _some(figure("memory-refaults", exam.typical(refaults)))
    evidence += _some(figure("memory-reclaim", exam.typical(machine.paging_per_s(RECLAIM))))
    return [ResourceInstance(None, used, stalled, conditions, evidence)]


def _some(figure: EvidenceFigure) -> list[EvidenceFigure]:
    return [figure] if figure.value > 0 else []


def _held(exam: Examination) -> Demand:
    """Return the memory that each application holds for itself."""
    has = [application.private_bytes.at_ends() for application in exam.applications]
    held = [application.private_bytes.median() or 0.0 for application in exam.applications]
    return Demand(has, Rate.total_of(exam.series.line, has), "bytes", shares_of(held))


def _swap(exam: Examination) -> list[ResourceInstance]:
    """Return swap, nothing without any: its use is harmless, traffic is what counts.

    It never limits by itself: the lack of memory is its cause.
    """
    machine = exam.series.machine
    total = machine.memory_bytes("SwapTotal").at_ends()
    most = total.greatest() or 0.0
    if most <= 0:
        return []
    free = machine.memory_bytes("SwapFree").at_ends() / total.between(1.0, np.inf)
    used, paging = (free * -1.0 + 1.0).between(0.0, 1.0), pages_per_s(exam)
    conditions: dict[LevelWord, Rate] = {
        "strained": paging.at_least(exam.limits.findings.paging_pages_per_s)
    }
    evidence = [
        figure("swap-used", exam.typical(used), of=most),
        figure("memory-paging", exam.typical(paging)),
    ]
    return [ResourceInstance(None, used, None, conditions, evidence)]


def _coverage(exam: Examination) -> float | None:
    """Return the share of the kernel's anonymous pages that processes hold for themselves."""
    anonymous = exam.series.machine.memory_bytes("AnonPages")
    if (anonymous.greatest() or 0.0) <= 0:
        return None
    held = [application.private_bytes for application in exam.applications]
    share = type(anonymous).total_of(anonymous.line, held) / anonymous.between(1.0, np.inf)
    median = share.median()
    return None if median is None else min(1.0, median)


SAVING = Saving("memory", lambda application: application.private_bytes.median() or 0.0, "bytes")
MEMORY = Resource("memory", 1, _memory, _held, SAVING, _coverage, follows_at_once=False)
SWAP = Resource("swap", None, _swap, _held, SAVING, _coverage, follows_at_once=False, is_load=False)
