"""Divide the installed memory into parts that add up to it.

Source: ``Documentation/filesystems/proc.rst`` on meminfo. Shared memory is part of ``Cached`` there
and is taken out of it. Locked or otherwise unevictable memory is part of programs, shared memory or
file cache, and is taken out of those. What the kernel's own drivers hold is published nowhere; it
is the part that remains.
"""

import numpy as np

from dunmist.series.machine import MachineSeries
from dunmist.series.timeline import Floats, Level

# parts that lines of meminfo give as they are
SUMS = {
    "kernel, reclaimable": ("KReclaimable",),
    "kernel, fixed": ("SUnreclaim", "KernelStack", "Percpu", "Bounce"),
    "page tables": ("PageTables", "SecPageTables"),
    "huge pages, reserved": ("Hugetlb",),
    "free": ("MemFree",),
}
UNNAMED = "drivers and unnamed"


def memory_breakdown(machine: MachineSeries) -> dict[str, Level]:
    """Return bytes of each part at each tick; they add up to the installed total."""
    nothing = np.zeros(machine.line.ticks)

    def line(*words: str) -> Floats:
        published = (machine.memory_bytes(word).known_or(0.0).values for word in words)
        return sum(published, nothing)

    anonymous, shared = line("AnonPages"), line("Shmem")
    cached = np.maximum(line("Cached", "Buffers", "SwapCached") - shared, 0.0)
    locked = np.minimum(line("Unevictable"), anonymous + shared + cached)
    # the lists of evictable pages tell how much of the locked memory is not of files
    # SwapBacked pages that are locked are on the unevictable list only
    not_on_lists = anonymous + shared - line("Active(anon)", "Inactive(anon)")
    has_lists = line("Active(anon)", "Inactive(anon)") > 0
    locked_anonymous = np.clip(np.where(has_lists, not_on_lists, 0.0), 0.0, locked)
    of_programs = np.minimum(locked_anonymous, anonymous)
    of_shared = np.minimum(locked_anonymous - of_programs, shared)
    of_files = locked - of_programs - of_shared
    files = np.maximum(cached - of_files, 0.0)
    # pages of shared memory and of devices are counted dirty as well
    dirty = np.minimum(line("Dirty", "Writeback"), files)
    parts = {
        "programs": anonymous - of_programs,
        "shared memory": shared - of_shared,
        "locked": of_programs + of_shared + (cached - files),
        "file cache": files - dirty,
        "file cache, not written yet": dirty,
        "compressed swap": line("Zswap") + machine.zram_bytes.known_or(0.0).values,
        **{part: line(*words) for part, words in SUMS.items()},
    }
    named = sum(parts.values(), nothing)
    parts[UNNAMED] = np.maximum(line("MemTotal") - named, 0.0)
    return {name: Level(machine.line, held) for name, held in parts.items()}
