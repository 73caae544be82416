"""Compute CPU and I/O time used between samples or after the last one.

Two figures show it, and each misses something. A parent's counter grows by a child's whole use
when the child is waited for; what of that was not seen already was used by short-lived ones. It is
exact, but silent about children that nobody waits for. The kernel sends records of exited tasks to
the administrator only, and they name every task. They are written before the task has given back
its memory, so they lack the last part of its time. For each application the greater of the two sums
so far counts.
"""

from collections import defaultdict
from collections.abc import Iterable
from typing import NamedTuple, Protocol

import numpy as np

from dunmist.applications import Grouping
from dunmist.computer import ProcessSample
from dunmist.sampling import ExitSum
from dunmist.series.reaped_bytes import reaper_of
from dunmist.series.timeline import Floats, TimeLine

US_PER_S = 1e6
NS_PER_S = 1e9


class Seen(Protocol):
    """Fields that are needed of the samples collected from a capture."""

    exits: list[tuple[int, ExitSum]]
    last: dict[int, ProcessSample]
    ended_row: dict[int, int]


class ChildTime(NamedTuple):
    """By how much a parent's counter of waited-for children grew in an interval."""

    row: int
    parent: int
    seconds: float


Sums = dict[int, Floats]


class UnsampledUsage(NamedTuple):
    """Use that no sample shows, by application."""

    own_cores: Sums  # after the last sample of a process
    short_lived_cores: Sums
    unclaimed_cores: Floats  # of children whose parent was not seen
    read_bytes_per_s: Sums
    write_bytes_per_s: Sums
    programs: dict[int, dict[str, int]]  # count of short-lived programs by name


class _Rest(NamedTuple):
    """Use of a sampled process between its last sample and its exit."""

    row: int
    seconds: float
    read_bytes: float
    write_bytes: float


def late_use(
    children: Iterable[ChildTime], seen: Seen, grouping: Grouping, clk_per_s: int, line: TimeLine
) -> UnsampledUsage:
    """Return all use that the samples do not show."""
    intervals = line.intervals
    own, announced, read, written = (_sums(intervals) for _ in range(4))
    unclaimed = np.zeros(intervals)
    programs: dict[int, dict[str, int]] = {}
    rests = _rests(seen, clk_per_s, intervals)
    children = list(children)
    waiters = {child.parent for child in children}
    for identity, rest in rests.items():
        number = grouping.application_of[identity]
        own[number][rest.row] += rest.seconds
        read[number][rest.row] += rest.read_bytes
        written[number][rest.row] += rest.write_bytes
    for row, ended in seen.exits:
        # those that were seen are in the rests; before the first tick is before the capture
        if ended.process is not None or not row:
            continue
        # the kernel counts by clock ticks here as it does for the CPU, so both agree
        used_s = ended.counted_us / US_PER_S
        parent = None if ended.parent is None else grouping.application_of.get(ended.parent)
        if parent is None:
            unclaimed[row - 1] += used_s
            continue
        announced[parent][row - 1] += used_s
        # the parent that waited for it has its bytes among its own
        if not _has_bytes_of_children(ended.parent, waiters, seen):
            read[parent][row - 1] += ended.read_bytes
            written[parent][row - 1] += ended.write_bytes
        names = programs.setdefault(parent, {})
        names[ended.name] = names.get(ended.name, 0) + ended.tasks
    waited = _waited_for(children, _Ended(seen, clk_per_s, rests), grouping, intervals)
    short = {
        number: np.diff(
            # sums are compared, not intervals: a record may come a tick before its parent waits
            np.maximum(np.cumsum(waited[number]), np.cumsum(announced[number])),
            prepend=0.0,
        )
        for number in waited.keys() | announced.keys()
    }
    return UnsampledUsage(
        own_cores=_per_second(own, line),
        short_lived_cores=_per_second(short, line),
        unclaimed_cores=np.nan_to_num(line.per_second(unclaimed)),
        read_bytes_per_s=_per_second(read, line),
        write_bytes_per_s=_per_second(written, line),
        programs=programs,
    )


def _has_bytes_of_children(identity: int | None, waiters: set[int], seen: Seen) -> bool:
    last = seen.last.get(identity) if identity is not None else None
    return identity in waiters and last is not None and last.read_bytes is not None


def _sums(intervals: int) -> defaultdict[int, Floats]:
    return defaultdict(lambda: np.zeros(intervals))


def _per_second(sums: Sums, line: TimeLine) -> Sums:
    return {number: np.nan_to_num(line.per_second(amounts)) for number, amounts in sums.items()}


def _rests(seen: Seen, clk_per_s: int, intervals: int) -> dict[int, _Rest]:
    whole: dict[int, list[float]] = defaultdict(lambda: [0.0, 0.0, 0.0])
    for _, ended in seen.exits:
        if ended.process is not None:
            sums = whole[ended.process]
            sums[0] += ended.run_ns / NS_PER_S
            sums[1] += ended.read_bytes
            sums[2] += ended.write_bytes
    rests = {}
    for identity, (run_s, read, written) in whole.items():
        # the interval in which it was last there
        row = seen.ended_row.get(identity, 0) - 1
        last = seen.last.get(identity)
        if 0 <= row < intervals and last:
            used_s = (last.user_clk + last.system_clk) / clk_per_s
            rests[identity] = _Rest(
                row,
                # both clocks round differently: the rest may come out a little below 0
                max(0.0, run_s - used_s),
                max(0.0, read - _known_or(last.read_bytes, read)),
                max(0.0, written - _known_or(last.write_bytes, written)),
            )
    return rests


def _known_or(value: int | None, other: float) -> float:
    return other if value is None else value


class _Ended(NamedTuple):
    """Those that were seen to end, and what each used between its last sample and its end."""

    seen: Seen
    clk_per_s: int
    rests: dict[int, _Rest]

    def whole_use_s(self, identity: int) -> float:
        """Return the total usage of an exited process and of the children that it reaped."""
        rest = self.rests.get(identity)
        used_s = _whole_use_s(self.seen.last[identity], self.clk_per_s)
        return used_s + (rest.seconds if rest else 0.0)


def _waited_for(
    children: Iterable[ChildTime], ended: _Ended, grouping: Grouping, intervals: int
) -> defaultdict[int, Floats]:
    """Return seconds of children not seen to use them, by the application that waited for them."""
    cumulated = _sums(intervals)
    ended_row = ended.seen.ended_row
    for child in children:
        cumulated[child.parent][child.row] += child.seconds
    for identity, row in ended_row.items():
        reaper = reaper_of(identity, row, grouping, ended_row)
        was_counted = reaper is not None and reaper in cumulated
        if was_counted and 0 < row <= intervals and identity in ended.seen.last:
            assert reaper is not None
            cumulated[reaper][row - 1] -= ended.whole_use_s(identity)
    total = _sums(intervals)
    for identity, growth in cumulated.items():
        # a child may be missed at one tick and its parent's counter seen at the next
        surplus = np.maximum.accumulate(np.maximum(np.cumsum(growth), 0.0))
        total[grouping.application_of[identity]] += np.diff(surplus, prepend=0.0)
    return total


def _whole_use_s(sample: ProcessSample, clk_per_s: int) -> float:
    own_clk = sample.user_clk + sample.system_clk
    return (own_clk + sample.children_user_clk + sample.children_system_clk) / clk_per_s
