"""Plan duration and period of sampling, and keep its even pace.

Tick n is due n intervals after the first, whatever the ticks before it took. A tick that cannot be
on time is late, one that would come after the next is due is missed; neither moves the ones after
it.
"""

import math
from collections.abc import Callable, Iterator
from typing import NamedTuple

import msgspec

from dunmist.sampling.clock import Clock


class Plan(msgspec.Struct, frozen=True):
    """Ticks lie ``every_s`` apart from 0 to ``duration_s``, both ends included."""

    duration_s: float
    every_s: float

    @property
    def intervals(self) -> int:
        """Number of whole intervals, one less than the ticks."""
        return math.floor(self.duration_s / self.every_s + 1e-9)


LATE_SHARE = 0.1  # of an interval: rates over it are still right, but it is no longer even
# a timer of the kernel is right to a few milliseconds
LATE_LEAST_S = 0.01
# a free time in which slow things may be read
MEANWHILE_S = 1.0
# before a tick nothing else is read any more
SPARED_S = 0.05


class Due(NamedTuple):
    """One tick: its number, when it was due and when it began, and how many were missed before."""

    number: int
    due_s: float
    at_s: float
    missed: int

    def is_late(self, every_s: float) -> bool:
        """Whether it began too late to count as even."""
        return self.at_s - self.due_s > max(LATE_LEAST_S, LATE_SHARE * every_s)


def pace(
    plan: Plan,
    clock: Clock,
    meanwhile: Callable[[], None] | None = None,
    pause_s: Callable[[], float | None] = lambda: None,
) -> Iterator[Due]:
    """Yield each tick at its time, seconds counted from the first; end early when asked to.

    ``meanwhile`` is called about once a second while a longer interval is waited out, or as often
    as ``pause_s`` says.
    """
    start_s = clock.monotonic_s()
    number = missed = 0
    while number <= plan.intervals:
        due_s = number * plan.every_s
        if not _wait(clock, start_s + due_s, meanwhile, pause_s):
            return
        yield Due(number, due_s, clock.monotonic_s() - start_s, missed)
        following = max(number + 1, _reached(plan, clock, clock.monotonic_s() - start_s))
        missed = following - number - 1
        number = following


def _reached(plan: Plan, clock: Clock, now_s: float) -> int:
    """Return the number of the tick that can be taken now, or of the next that can be."""
    if clock.frame_early_s is None:
        return min(int(now_s / plan.every_s), plan.intervals)
    # the frame of now serves one tick and no other
    return int((now_s + clock.frame_early_s) / plan.every_s) + 1


def _wait(
    clock: Clock,
    until_s: float,
    meanwhile: Callable[[], None] | None,
    pause_s: Callable[[], float | None],
) -> bool:
    runs = clock.frame_early_s is None
    while meanwhile and runs:
        wanted_s = pause_s()
        # reading this may take a moment, and a tick comes first
        least_s = 2 * MEANWHILE_S if wanted_s is None else wanted_s + SPARED_S
        if until_s - clock.monotonic_s() <= least_s:
            break
        if not clock.sleep_until(clock.monotonic_s() + (wanted_s or MEANWHILE_S)):
            return False
        meanwhile()
    return clock.sleep_until(until_s)
