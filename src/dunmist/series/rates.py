"""Differences of raw counters over the real length of each interval."""

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
NS_PER_S = 1e9


def increments(counter: Floats) -> Floats:
    """Return what a counter grew by in each interval along the first axis.

    A counter that went backwards was reset or wrapped: its increment there is NaN, as is one beside
    a missing reading.
    """
    grown: Floats = np.diff(counter, axis=0)
    grown[grown < 0] = np.nan
    return grown


def per_second(counter: Floats, interval_s: Floats) -> Floats:
    """Return a counter's rate in each interval, NaN where ``increments`` has none."""
    grown = increments(counter)
    return grown / interval_s.reshape(-1, *([1] * (grown.ndim - 1)))
