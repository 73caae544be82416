"""Test if a figure rises or falls over weeks: a robust trend for autocorrelated data.

The slope is the median of all slopes between two points (Theil 1950; Sen 1968, Journal of the
American Statistical Association 63:1379). Whether it is more than chance is the test of Mann and
Kendall with the variance of data whose neighbours are alike (Hamed and Rao 1998, Journal of
Hydrology 204:182). The interval of the slope is Sen's, with that variance (Gilbert 1987,
Statistical Methods for Environmental Pollution Monitoring, 16.4.2).
"""

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from numpy.lib.stride_tricks import sliding_window_view

Floats = npt.NDArray[np.float64]

# lags whose correlation is more than chance count, Hamed and Rao 1998, at 95 %
SIGNIFICANT_Z = 1.96
# fewer points have no variance to speak of
POINTS_LEAST = 8
ONSET_POINTS_LEAST = 5
# from so many points it is known how a figure moves anyway
NOISE_POINTS_LEAST, ALIKE_MOST = 20, 0.8
# a step is seen in the medians of so many points at both sides, where it is so many times the
# spread from point to point; MAD_SIGMA makes a standard deviation of a median deviation
STEP_POINTS, STEP_LEAST, STEPS_MOST, MAD_SIGMA = 3, 4.0, 4, 1.4826


class Trend(NamedTuple):
    """A straight line through points, by day; ``low`` and ``high`` bound the slope."""

    slope: float  # a day
    low: float
    high: float
    level: float  # at the first point
    p_value: float


def trend_of(days: Floats, values: Floats, confidence_z: float) -> Trend | None:
    """Return the trend of values over days, None of too few; ``confidence_z`` is of the interval.

    Shapes (points,), days in rising order.
    """
    count = len(days)
    if count < POINTS_LEAST:
        return None
    upper = np.triu_indices(count, 1)
    spans = days[upper[1]] - days[upper[0]]
    rises = values[upper[1]] - values[upper[0]]
    slopes = np.sort(rises[spans > 0] / spans[spans > 0])
    if not len(slopes):
        return None
    slope = float(np.median(slopes))
    level = float(np.median(values - slope * (days - days[0])))
    variance = _variance(days, values, slope)
    score = float(np.sign(rises).sum())
    spread = float(np.sqrt(variance))
    # one step less, as the score moves in steps of two
    z = (abs(score) - 1) / spread if spread > 0 and score else 0.0
    reach = confidence_z * spread
    low = slopes[int(max(0, np.floor((len(slopes) - reach) / 2)))]
    high = slopes[int(min(len(slopes) - 1, np.ceil((len(slopes) + reach) / 2)))]
    return Trend(slope, float(low), float(high), level, _both_tails(z))


class Noise(NamedTuple):
    """Noise of a figure without a drift: its spread, and the correlation of neighbouring points."""

    spread: float
    alike: float  # 0 to ALIKE_MOST

    def slope_error(self, days: Floats) -> float:
        """Return the standard error of a slope through points on these days."""
        reach = float(((days - days.mean()) ** 2).sum())
        inflated = (1 + self.alike) / (1 - self.alike)
        return self.spread * float(np.sqrt(inflated / reach)) if reach > 0 else float("inf")


def noise_of(values: Floats) -> Noise | None:
    """Return the noise from point to point, steps excluded; None of too few points."""
    if len(values) < NOISE_POINTS_LEAST:
        return None
    rises = np.diff(without_steps(values))
    rises = rises - np.median(rises)
    whole = float((rises * rises).sum())
    # of points that are alike by r, neighbouring differences are alike by -(1 - r) / 2
    between = float((rises[:-1] * rises[1:]).sum()) / whole if whole > 0 else -0.5
    alike = min(max(1 + 2 * between, 0.0), ALIKE_MOST)
    spread = max(float(np.std(rises)), float(np.median(np.abs(rises))) * MAD_SIGMA)
    return Noise(spread / float(np.sqrt(2 * (1 - alike))), alike)


def goes_on(values: Floats, trend: Trend) -> bool:
    """Whether each third of the values goes on from the one before."""
    thirds = [float(np.median(part)) for part in np.array_split(values, 3)]
    return bool((np.diff(thirds) * np.sign(trend.slope) > 0).all())


def onset_of(days: Floats, values: Floats) -> float:
    """Return the day from which values rise or fall: where a flat and a sloping line fit best."""
    best, onset = np.inf, float(days[0])
    for index in range(len(days) - ONSET_POINTS_LEAST):
        after = np.maximum(0.0, days - days[index])
        form = np.stack([np.ones_like(days), after], axis=1)
        weights, *_ = np.linalg.lstsq(form, values, rcond=None)
        left = float(((values - form @ weights) ** 2).sum())
        if left < best:
            best, onset = left, float(days[index])
    return onset


def without_steps(values: Floats) -> Floats:
    """Return values from which sudden steps are taken out: an update is no drift."""
    smooth = values.copy()
    rest = np.diff(smooth)
    spread = float(np.median(np.abs(rest - np.median(rest)))) * MAD_SIGMA / np.sqrt(2)
    for _ in range(STEPS_MOST):
        if len(smooth) < 2 * STEP_POINTS:
            break
        # medians of so many points from each point on, and of as many before it
        medians = np.median(sliding_window_view(smooth, STEP_POINTS), axis=1)
        steps = medians[STEP_POINTS:] - medians[:-STEP_POINTS]
        # a steady rise is part of every step
        apart = steps - np.median(steps)
        greatest = int(np.argmax(np.abs(apart)))
        if abs(apart[greatest]) < STEP_LEAST * spread:
            break
        # medians see it from some points: it is where the values themselves jump
        index, sign = greatest + STEP_POINTS, np.sign(apart[greatest])
        near = range(max(1, index - STEP_POINTS + 1), min(len(smooth), index + STEP_POINTS))
        index = max(near, key=lambda each: sign * (smooth[each] - smooth[each - 1]))
        smooth[index:] -= apart[greatest]
    return smooth


def _variance(days: Floats, values: Floats, slope: float) -> float:
    """Return the variance of the score of values that have no trend and are alike as these are."""
    count = len(values)
    _, ties = np.unique(values, return_counts=True)
    tied = float((ties * (ties - 1) * (2 * ties + 5)).sum())
    plain = (count * (count - 1) * (2 * count + 5) - tied) / 18
    rest = values - slope * (days - days[0])
    ranks = np.argsort(np.argsort(rest, kind="stable"), kind="stable").astype(np.float64)
    ranks -= ranks.mean()
    whole = float((ranks * ranks).sum())
    if whole <= 0:
        return plain
    bound = SIGNIFICANT_Z / np.sqrt(count)
    factor = 1.0
    for lag in range(1, count - 2):
        alike = float((ranks[:-lag] * ranks[lag:]).sum()) / whole
        if abs(alike) > bound:
            weight = (count - lag) * (count - lag - 1) * (count - lag - 2)
            factor += 2 * weight * alike / (count * (count - 1) * (count - 2))
    # negative correlation makes nothing surer
    return plain * max(1.0, factor)


def _both_tails(z: float) -> float:
    from math import erfc, sqrt

    return erfc(z / sqrt(2))
