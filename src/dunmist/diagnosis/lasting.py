"""What holds for most of a capture, rather than its peak or its mean."""

import numpy as np

from dunmist.diagnosis.records import Trace
from dunmist.diagnosis.words import LEVELS, Level
from dunmist.series.rates import Floats, Ints


def lasting(values: Floats, interval_s: Floats, share: float) -> float:
    """Return the greatest value that held for at least this share of the time, 0 if unknown."""
    known = ~np.isnan(values)
    if not known.any():
        return 0.0
    held, weight = values[known], interval_s[known]
    order = np.argsort(-held)
    reached = np.cumsum(weight[order]) >= share * weight.sum() - 1e-9
    return float(held[order][np.argmax(reached)])


def lasting_level(met: dict[Level, Floats], interval_s: Floats, share: float) -> Level:
    """Return the highest level whose condition (0 or 1 in each interval) held for long enough."""
    for level in reversed(LEVELS):
        condition = met.get(level)
        if condition is not None and lasting(condition, interval_s, share) > 0.5:
            return level
    return "calm"


def trace_of(used: Floats, pressure: Floats | None, met: dict[Level, Floats]) -> Trace:
    """Return a resource over time; each interval has the highest level whose condition it meets."""
    levels: Ints = np.zeros(len(used), dtype=np.int64)
    for place, level in enumerate(LEVELS):
        if level in met:
            levels[met[level] > 0.5] = place
    return Trace(used, pressure, levels)
