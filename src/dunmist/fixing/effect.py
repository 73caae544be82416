"""Whether an act helped: the same figures before and after, and whether noise explains it."""

from typing import Literal, NamedTuple

import numpy as np

from dunmist.diagnosis import Resource, ResourceState
from dunmist.series.rates import Floats

# the middle halves of both must lie apart, and by at least this much
LEAST_CHANGE = 0.03


Change = Literal["better", "worse", "no clear change"]


class Effect(NamedTuple):
    """A resource before and after; shares, the medians over the intervals of each look."""

    resource: Resource
    name: str | None
    used: tuple[float, float]
    pressure: tuple[float, float] | None
    verdict: Change


def effect_of(before: list[ResourceState], after: list[ResourceState],
              resource: Resource, name: str | None) -> Effect | None:  # fmt: skip
    """Return how a resource changed between two captures; None when one of them lacks it."""
    first, second = (_state(states, resource, name) for states in (before, after))
    if first is None or second is None or first.trace is None or second.trace is None:
        return None
    verdicts = [_compared(first.trace.used, second.trace.used)]
    pressure = None
    if first.trace.pressure is not None and second.trace.pressure is not None:
        pressure = (_median(first.trace.pressure), _median(second.trace.pressure))
        # what is held up counts more than how full it is
        verdicts.insert(0, _compared(first.trace.pressure, second.trace.pressure))
    verdict: Change = next((one for one in verdicts if one != "no clear change"), verdicts[0])
    used = (_median(first.trace.used), _median(second.trace.used))
    return Effect(resource, first.name, used, pressure, verdict)


def _state(
    states: list[ResourceState], resource: Resource, name: str | None
) -> ResourceState | None:
    same = [one for one in states if one.resource == resource]
    named = [one for one in same if one.name == name]
    return next(iter(named or same), None)


def _compared(before: Floats, after: Floats) -> Change:
    if np.isnan(before).all() or np.isnan(after).all():
        return "no clear change"
    low, high = np.nanpercentile(before, (25, 75))
    low_after, high_after = np.nanpercentile(after, (25, 75))
    change = _median(after) - _median(before)
    if high_after < low and change <= -LEAST_CHANGE:
        return "better"
    if low_after > high and change >= LEAST_CHANGE:
        return "worse"
    return "no clear change"


def _median(values: Floats) -> float:
    return float(np.nanmedian(values)) if not np.isnan(values).all() else 0.0
