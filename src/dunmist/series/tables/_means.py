"""Figures over the intervals of a capture that the tables show."""

import numpy as np

from dunmist.series.rates import Floats


def mean(values: Floats, weights: Floats) -> float:
    """Return the mean over the known intervals, 0 when none is."""
    known = ~np.isnan(values)
    return float(np.average(values[known], weights=weights[known])) if known.any() else 0.0


def known_mean(values: Floats, weights: Floats) -> float | None:
    """Return the mean over the known intervals, None when none is."""
    return None if np.isnan(values).all() else mean(values, weights)


def greatest(values: Floats) -> float | None:
    """Return the greatest known value, None when none is."""
    return None if np.isnan(values).all() else float(np.nanmax(values))


def least(values: Floats) -> float | None:
    """Return the smallest known value, None when none is."""
    return None if np.isnan(values).all() else float(np.nanmin(values))
