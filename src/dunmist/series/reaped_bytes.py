"""Find bytes that the kernel counts twice: for a child, and for the parent that waited for it.

When a process is waited for, the kernel adds its I/O to that of the waiting one (wait_task_zombie
in kernel/exit.c), whose ``/proc/PID/io`` then has it besides its own. What was counted while the
child lived is taken out there.
"""

from collections import defaultdict
from collections.abc import Iterable, Mapping
from typing import Protocol

import numpy as np

from dunmist.applications import Grouping
from dunmist.computer import ProcessSample
from dunmist.sampling import ExitSum
from dunmist.series.timeline import Floats


class Ended(Protocol):
    """Fields that are needed of the processes collected from a capture."""

    exits: list[tuple[int, ExitSum]]
    last: dict[int, ProcessSample]
    ended_row: dict[int, int]


def reaper_of(identity: int, row: int, grouping: Grouping, ended_row: dict[int, int]) -> int | None:
    """Return the process that reaped one that had exited by a tick, None if none was seen.

    Who ends before its child leaves it to the next ancestor.
    """
    parent = grouping.parent(identity)
    while parent is not None and ended_row.get(parent, row + 1) <= row:
        parent = grouping.parent(parent)
    return parent


def without_reaped(
    growths: Mapping[int, Floats],
    whole: Mapping[int, float],
    waiters: Iterable[int],
    ended: Ended,
    grouping: Grouping,
) -> dict[int, Floats]:
    """Return the growth of those that waited for children, without what these moved themselves.

    ``growths`` is the growth of each such process, shape (intervals,). ``whole`` is what a process
    had moved when it ended. ``waiters`` are those whose counter of children grew.
    """
    mine = {identity: growths[identity].copy() for identity in waiters if identity in growths}
    taken = set()
    for identity, row in ended.ended_row.items():
        reaper = reaper_of(identity, row, grouping, ended.ended_row)
        if reaper in mine and 0 < row <= len(mine[reaper]) and identity in whole:
            mine[reaper][row - 1] -= whole[identity]
            taken.add(reaper)
    # a child may be missed at one tick and the bytes of its parent seen at the next
    return {
        identity: np.diff(np.maximum.accumulate(np.maximum(np.cumsum(growth), 0.0)), prepend=0.0)
        for identity, growth in mine.items()
        if identity in taken
    }


def whole_bytes(ended: Ended, name: str) -> dict[int, float]:
    """Return the ``read_bytes`` or ``write_bytes`` of each exited process.

    By its last sample, and by the kernel's records of ended tasks where there are any, which know
    the time after it.
    """
    summed: dict[int, float] = defaultdict(float)
    for _, record in ended.exits:
        if record.process is not None:
            summed[record.process] += getattr(record, name)
    whole = {}
    for identity in ended.ended_row:
        last = ended.last.get(identity)
        moved: int | None = getattr(last, name) if last is not None else None
        if moved is not None:
            whole[identity] = max(float(moved), summed[identity])
    return whole
