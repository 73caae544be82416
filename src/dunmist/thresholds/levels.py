"""Conditions of the levels of a resource: one declaration for the triage and the live view.

Each function takes the figures of one thing and gives the condition for each level. The triage
hands in figures of every interval at once, the live view those of one tick (``Reading``); both
compare and combine in the same way. A level without a condition cannot be reached.
"""

from collections.abc import Mapping
from typing import Literal, Protocol, Self, TypeVar, get_args

from dunmist.thresholds.cpu import ProcessorLimits
from dunmist.thresholds.disks import DiskLimits
from dunmist.thresholds.heat import HeatLimits
from dunmist.thresholds.memory import MemoryLimits
from dunmist.thresholds.resources import LinkLimits

LevelWord = Literal["calm", "busy", "strained", "choked"]
LEVELS: tuple[LevelWord, ...] = get_args(LevelWord)
# mean tasks: less waiting than this is no ground for a proportion
WAITING_LEAST = 1e-3


class Figure(Protocol):
    """A figure with a bound; a condition is a figure too: 1 if it holds, else 0."""

    def at_least(self, bound: float) -> Self:
        """Return the condition that it is known and not below a bound."""

    def at_most(self, bound: float) -> Self:
        """Return the condition that it is known and not above a bound."""

    def __add__(self, other: Self) -> Self:
        """Return the sum of both."""

    def __mul__(self, factor: float) -> Self:
        """Return it times a number."""

    def __and__(self, other: Self) -> Self:
        """Return the condition that both hold."""

    def __or__(self, other: Self) -> Self:
        """Return the condition that one of both holds."""


AnyFigure = TypeVar("AnyFigure", bound=Figure)


class Reading(float):
    """A figure of one tick; nan where it is unknown, which meets no bound."""

    def at_least(self, bound: float) -> Self:
        """Return 1 where it is not below a bound, else 0."""
        return type(self)(self >= bound)

    def at_most(self, bound: float) -> Self:
        """Return 1 where it is not above a bound, else 0."""
        return type(self)(self <= bound)

    def __add__(self, other: float) -> Self:
        return type(self)(float(self) + other)

    def __mul__(self, factor: float) -> Self:
        return type(self)(float(self) * factor)

    def __and__(self, other: Self) -> Self:
        return min(self, other)

    def __or__(self, other: Self) -> Self:
        return max(self, other)


def level_of(conditions: Mapping[LevelWord, Reading]) -> LevelWord:
    """Return the highest level whose condition holds now."""
    return next((level for level in reversed(LEVELS) if conditions.get(level, 0.0) > 0), "calm")


def cpu_levels(
    used: AnyFigure, pressure: AnyFigure, held_up: AnyFigure, table: ProcessorLimits
) -> dict[LevelWord, AnyFigure]:
    """Return the conditions of all CPUs together.

    ``pressure`` is the share of time in which ordinary tasks waited, ``held_up`` the share of the
    CPU time that they wanted and did not get.
    """
    return {
        "busy": used.at_least(table.busy),
        "strained": used.at_least(table.strained_used)
        & pressure.at_least(table.strained_pressure)
        & held_up.at_least(table.strained_held_up),
        "choked": used.at_least(table.choked_used)
        & pressure.at_least(table.choked_pressure)
        & held_up.at_least(table.choked_held_up),
    }


def memory_levels(
    used: AnyFigure,
    available: AnyFigure,
    stalled: AnyFigure,
    both_ways: AnyFigure,
    table: MemoryLimits,
) -> dict[LevelWord, AnyFigure]:
    """Return the conditions of memory, where the kernel accounts stalls.

    ``available`` is a share of all memory, ``both_ways`` the pages a second that went out and were
    wanted back at once.
    """
    # if swap is fast, work is slowed down by more than the time that it waits for pages
    slowed = both_ways.at_least(table.strained_pages_per_s) & stalled.at_least(
        table.thrashing_pressure
    )
    thrashes = available.at_most(table.short_available) & (
        slowed | both_ways.at_least(table.thrashing_pages_per_s)
    )
    return {
        "busy": used.at_least(table.busy),
        "strained": stalled.at_least(table.strained_pressure) | thrashes,
        "choked": stalled.at_least(table.choked_pressure),
    }


def memory_levels_by_pages(
    used: AnyFigure, available: AnyFigure, thrashing: AnyFigure, table: MemoryLimits
) -> dict[LevelWord, AnyFigure]:
    """Return the conditions of memory, where no stalls are accounted.

    ``thrashing`` are the pages a second that were thrown out and wanted again at once, with or
    without swap.
    """
    short = available.at_most(table.short_available)
    return {
        "busy": used.at_least(table.busy),
        "strained": short & thrashing.at_least(table.strained_pages_per_s),
        "choked": short & thrashing.at_least(table.choked_pages_per_s),
    }


def is_exhausted(available: AnyFigure, left_bytes: AnyFigure, table: MemoryLimits) -> AnyFigure:
    """Return the condition that nothing is left to give, in swap neither.

    Who asks next is ended: no stall tells it in time.
    """
    return available.at_most(table.exhausted_available) & left_bytes.at_most(table.exhausted_bytes)


def disk_levels(
    busy: AnyFigure, queue: AnyFigure, held_up: AnyFigure, table: DiskLimits
) -> dict[LevelWord, AnyFigure]:
    """Return the conditions of one disk; ``held_up`` is how often somebody waited for disks."""
    crowded = queue.at_least(table.crowded_queue) & busy.at_least(table.crowded_used)
    # the fuller a disk is, the less waiting is enough: a straight line between two points
    per_share = (table.waited_held_up - table.strained_held_up) / (
        table.strained_used - table.waited_used
    )
    least = table.waited_held_up + per_share * table.waited_used
    waited = busy.at_least(table.waited_used) & (busy * per_share + held_up).at_least(least)
    return {
        "busy": busy.at_least(table.busy),
        "strained": (crowded | waited) & held_up.at_least(table.strained_held_up),
        "choked": (crowded | busy.at_least(table.choked_used))
        & held_up.at_least(table.choked_held_up),
    }


def link_levels(
    used: AnyFigure, queued: AnyFigure | None, table: LinkLimits
) -> dict[LevelWord, AnyFigure]:
    """Return the conditions of one link; ``queued`` is how often something waited to be sent."""
    strained = used.at_least(table.strained_used)
    return {
        "busy": used.at_least(table.busy),
        "strained": strained if queued is None else strained | queued.at_least(table.queued_share),
        "choked": used.at_least(table.choked_used),
    }


def heat_levels(
    margin: AnyFigure, lost: AnyFigure, table: HeatLimits, *, is_throttled: bool
) -> dict[LevelWord, AnyFigure]:
    """Return the conditions of heat: kelvin to the critical point, share of the clock that is lost.

    Where the kernel counted throttling, no share of a clock needs to be guessed from.
    """
    protects = margin.at_most(table.near_kelvin)
    if not is_throttled:
        protects = protects & lost.at_least(table.strained_lost)
    return {
        "busy": margin.at_most(table.busy_kelvin),
        "strained": protects,
        "choked": protects & lost.at_least(table.choked_lost),
    }
