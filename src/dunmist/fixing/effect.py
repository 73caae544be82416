"""Test if an act helped: the same figures before and after, against noise."""

from typing import Literal, NamedTuple

from dunmist.compare import CHANCE_MOST, difference_of_means
from dunmist.diagnosis import ResourceState, ResourceWord
from dunmist.series import Rate

Change = Literal["better", "worse", "no clear change"]
# fewer say nothing of how much chance does
VALUES_LEAST = 4


class Effect(NamedTuple):
    """A resource before and after a step."""

    resource: ResourceWord
    name: str | None
    used: tuple[float, float]  # medians over the intervals of each measurement
    pressure: tuple[float, float] | None  # None if it cannot be measured
    verdict: Change


def effect_of(
    before: list[ResourceState],
    after: list[ResourceState],
    resource: ResourceWord,
    name: str | None,
    least_change: float,
) -> Effect | None:
    """Return the change of a resource between two captures; None if one lacks it."""
    first, second = (_state(states, resource, name) for states in (before, after))
    if first is None or second is None or first.trace is None or second.trace is None:
        return None
    verdicts = [_compared(first.trace.used, second.trace.used, least_change)]
    pressure = None
    if first.trace.pressure is not None and second.trace.pressure is not None:
        pressure = (_median(first.trace.pressure), _median(second.trace.pressure))
        # pressure counts more than use
        compared = _compared(first.trace.pressure, second.trace.pressure, least_change)
        verdicts.insert(0, compared)
    verdict: Change = next(
        (verdict for verdict in verdicts if verdict != "no clear change"), verdicts[0]
    )
    used = (_median(first.trace.used), _median(second.trace.used))
    return Effect(resource, first.name, used, pressure, verdict)


def _state(
    states: list[ResourceState], resource: ResourceWord, name: str | None
) -> ResourceState | None:
    same = [state for state in states if state.resource == resource]
    named = [application for application in same if application.name == name]
    return next(iter(named or same), None)


def _compared(before: Rate, after: Rate, least_change: float) -> Change:
    """Return whether they differ by more than chance, and by enough that anybody would notice."""
    first, second = before.known(), after.known()
    if min(len(first), len(second)) < VALUES_LEAST:
        return "no clear change"
    difference = difference_of_means(first, second)
    if difference.p_value > CHANCE_MOST or abs(difference.difference) < least_change:
        return "no clear change"
    return "better" if difference.difference < 0 else "worse"


def _median(rate: Rate) -> float:
    return rate.median() or 0.0
