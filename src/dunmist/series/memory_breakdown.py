"""Where the installed memory is, in parts that add up to it.

Source: ``Documentation/filesystems/proc.rst`` on meminfo. Shared memory is part of ``Cached`` there
and is taken out of it. What the kernel's own drivers hold is published nowhere; it is the part that
remains.
"""

import numpy as np

from dunmist.series.machine import MachineSeries
from dunmist.series.rates import Floats

# part, words of meminfo added, words subtracted
PARTS = (
    ("programs", ("AnonPages",), ()),
    ("shared memory", ("Shmem",), ()),
    ("file cache", ("Cached", "Buffers", "SwapCached"), ("Shmem",)),
    ("kernel, reclaimable", ("KReclaimable",), ()),
    ("kernel, fixed", ("SUnreclaim", "KernelStack", "Percpu", "Bounce"), ()),
    ("page tables", ("PageTables", "SecPageTables"), ()),
    ("huge pages, reserved", ("Hugetlb",), ()),
    ("compressed swap", ("Zswap",), ()),
    ("free", ("MemFree",), ()),
)
UNNAMED = "drivers and unnamed"


def memory_breakdown(machine: MachineSeries) -> dict[str, Floats]:
    """Return bytes of each part at each tick; they add up to the installed total."""
    nothing = np.zeros(len(machine.at_s))

    def line(word: str) -> Floats:
        return np.nan_to_num(machine.memory.get(word, nothing))

    parts = {
        part: np.maximum(sum(map(line, plus), nothing) - sum(map(line, minus), nothing), 0.0)
        for part, plus, minus in PARTS
    }
    named = sum(parts.values(), nothing)
    parts[UNNAMED] = np.maximum(line("MemTotal") - named, 0.0)
    return parts
