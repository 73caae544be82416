"""What used the computer and was never, or not to its end, seen: tasks that ended between ticks.

Two ways lead there. Where the kernel announced each task that ended (to the administrator only),
its record says what it used, and it goes to the application of its nearest ancestor that was seen.
Elsewhere a parent's counter tells: it grows by a child's whole use when the child is waited for,
and what of that was not seen already was used by short-lived ones.
"""

from collections import defaultdict
from collections.abc import Iterable
from typing import Any, NamedTuple, Protocol

import numpy as np

from dunmist.applications import Grouping
from dunmist.computer import ProcessSample
from dunmist.sampling import ExitSum
from dunmist.series.rates import Floats

NS_PER_S, US_PER_S = 1e9, 1e6


class Seen(Protocol):
    """What is needed of the samples collected from a capture."""

    clock_ticks_per_s: int
    exits: list[tuple[int, ExitSum]]
    last: dict[int, ProcessSample]
    ended_tick: dict[int, int]


class Late(NamedTuple):
    """Use that no sample shows, shape (intervals, applications) but for ``unclaimed_cores``.

    ``own_cores`` is what processes that were seen used after their last sample, ``programs`` counts
    short-lived ones by application and name.
    """

    own_cores: Floats
    short_lived_cores: Floats
    unclaimed_cores: Floats
    read_bytes_per_s: Floats
    write_bytes_per_s: Floats
    programs: dict[int, dict[str, int]]


def exit_use(seen: Seen, grouping: Grouping, interval_s: Floats) -> Late:
    """Return what the records of ended tasks say beyond the samples."""
    shape = (len(interval_s), len(grouping.applications))
    late = Late(*(np.zeros(shape) for _ in range(2)), np.zeros(len(interval_s)),
                *(np.zeros(shape) for _ in range(2)), {})  # fmt: skip
    whole: dict[int, Any] = defaultdict(lambda: np.zeros(3))
    for row, one in seen.exits:
        if one.process is not None:
            whole[one.process] += (one.run_ns / NS_PER_S, one.read_bytes, one.write_bytes)
        elif row:
            _add_unseen(late, row - 1, one, grouping)
    for identity, (run_s, read, written) in whole.items():
        row = seen.ended_tick.get(identity, 0) - 1
        last = seen.last.get(identity)
        if 0 <= row < len(interval_s) and last:
            number = grouping.application_of[identity]
            used_s = (last.user_clk + last.system_clk) / seen.clock_ticks_per_s
            late.own_cores[row, number] += max(0.0, run_s - used_s)
            late.read_bytes_per_s[row, number] += max(0.0, read - (last.read_bytes or read))
            late.write_bytes_per_s[row, number] += max(0.0, written - (last.write_bytes or written))
    return _per_second(late, interval_s)


def _add_unseen(late: Late, row: int, one: ExitSum, grouping: Grouping) -> None:
    # the kernel counts by clock ticks here as it does for the processors, so that both agree
    used_s = one.counted_us / US_PER_S
    number = grouping.application_of.get(one.parent) if one.parent is not None else None
    if number is None:
        late.unclaimed_cores[row] += used_s
        return
    late.short_lived_cores[row, number] += used_s
    late.read_bytes_per_s[row, number] += one.read_bytes
    late.write_bytes_per_s[row, number] += one.write_bytes
    names = late.programs.setdefault(number, {})
    names[one.name] = names.get(one.name, 0) + one.tasks


def _per_second(late: Late, interval_s: Floats) -> Late:
    each = interval_s[:, None]
    return Late(
        late.own_cores / each,
        late.short_lived_cores / each,
        late.unclaimed_cores / interval_s,
        late.read_bytes_per_s / each,
        late.write_bytes_per_s / each,
        late.programs,
    )


def children_use(
    children: Iterable[tuple[int, int, float]], seen: Seen, grouping: Grouping, interval_s: Floats
) -> Late:
    """Return what parents' counters say of children not seen to use it.

    ``children`` are interval, parent and seconds by which the parent's counter grew. What a child
    was last seen to have used was counted already; the difference was not.
    """
    cumulated: dict[int, Floats] = {}
    for row, process, seconds in children:
        cumulated.setdefault(process, np.zeros(len(interval_s)))[row] += seconds
    for identity, tick in seen.ended_tick.items():
        reaper = _reaper(identity, tick, grouping, seen.ended_tick)
        if reaper in cumulated and 0 < tick <= len(interval_s) and identity in seen.last:
            used_s = _whole_use_s(seen.last[identity], seen.clock_ticks_per_s)
            cumulated[reaper][tick - 1] -= used_s
    shape = (len(interval_s), len(grouping.applications))
    total = np.zeros(shape)
    for identity, growth in cumulated.items():
        # a child may be missed at one tick and its parent's counter seen at the next
        surplus = np.maximum.accumulate(np.maximum(np.cumsum(growth), 0.0))
        total[:, grouping.application_of[identity]] += np.diff(surplus, prepend=0.0)
    nothing = np.zeros(shape)
    late = Late(nothing, total, np.zeros(len(interval_s)), nothing, nothing, {})
    return _per_second(late, interval_s)


def _whole_use_s(sample: ProcessSample, clk_per_s: int) -> float:
    own_clk = sample.user_clk + sample.system_clk
    return (own_clk + sample.children_user_clk + sample.children_system_clk) / clk_per_s


def _reaper(identity: int, tick: int, grouping: Grouping, ended_tick: dict[int, int]) -> int | None:
    parent = grouping.parent(identity)
    while parent is not None and ended_tick.get(parent, tick + 1) <= tick:
        parent = grouping.parent(parent)
    return parent
