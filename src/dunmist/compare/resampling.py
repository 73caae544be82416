"""The difference between the means of two captures, and how sure it is.

Intervals of one capture are not independent: what is busy now is busy in a second. Whole blocks of
them are drawn again (circular block bootstrap: Politis and Romano 1992, in Exploring the Limits of
Bootstrap), as long as the first-order autocorrelation asks for (Carlstein 1986, Annals of
Statistics 14:1171, for the variance of a mean: (2ρ / (1 - ρ²))^(2/3) n^(1/3)). From few values it
is estimated too small by (1 + 4ρ) / n (Kendall 1954, Biometrika 41:403). Cutting into blocks loses
what holds two blocks together. Both are corrected as for a process of first order.
"""

import math
from typing import NamedTuple

import numpy as np

from dunmist.series import Floats

# a bound of 95 % then rests on 50 draws at each end
DRAWS = 2000
# the same captures give the same answer
SEED = 1995
# of a hundred differences that are said this share may be chance
CHANCE_MOST = 0.05
# an autocorrelation beyond this would ask for a block as long as the capture
CORRELATION_MOST = 0.97


class Resampled(NamedTuple):
    """A difference of means, after less before, its 95 % interval, and how likely it is chance."""

    difference: float
    low: float
    high: float
    p_value: float


def correlation(values: Floats) -> float:
    """Return the correlation of an interval with the one before it, 0 to ``CORRELATION_MOST``."""
    count = len(values)
    spread = values - values.mean()
    variance = float((spread**2).mean())
    if count < 4 or variance <= 0:
        return 0.0
    lag_correlation = float((spread[1:] * spread[:-1]).sum() / (count * variance))
    return min(max(lag_correlation + (1 + 4 * lag_correlation) / count, 0.0), CORRELATION_MOST)


def block_length(values: Floats) -> int:
    """Return the block length in intervals, at least 1 and at most a third of all."""
    count, rho = len(values), correlation(values)
    length = (2 * rho / (1 - rho**2)) ** (2 / 3) * count ** (1 / 3)
    return int(max(1, min(math.ceil(length), count // 3)))


def difference_of_means(before: Floats, after: Floats) -> Resampled:
    """Return the rise of the mean of ``after``; both have at least 2 known values."""
    chance = np.random.default_rng(SEED)
    difference = float(after.mean() - before.mean())
    drawn = _means(after, chance) - _means(before, chance)
    low, high = (
        float(bound) for bound in np.quantile(drawn, (CHANCE_MOST / 2, 1 - CHANCE_MOST / 2))
    )
    # the resampled values, shifted to zero, are the effect of chance alone
    beyond = int((np.abs(drawn - drawn.mean()) >= abs(difference)).sum())
    return Resampled(difference, low, high, (1 + beyond) / (1 + DRAWS))


def _means(values: Floats, chance: np.random.Generator) -> Floats:
    """Return the means of many captures like this one, shape (draws,)."""
    count, length = len(values), block_length(values)
    blocks = math.ceil(count / length)
    starts = chance.integers(0, count, size=(DRAWS, blocks))
    indices = (starts[:, :, None] + np.arange(length)) % count
    means: Floats = values[indices.reshape(DRAWS, -1)[:, :count]].mean(axis=1)
    # a mean of few blocks spreads less than it should: as with n - 1, but counted in blocks
    widened = count / max(count - length, 1)
    rho = correlation(values)
    widened /= 1 - 2 * rho * (1 - rho**length) / (length * (1 - rho**2))
    spread: Floats = values.mean() + (means - values.mean()) * math.sqrt(widened)
    return spread
