"""Decide if a figure rose along a ramp, or in steps as updates and new hardware move it.

A constant, some steps, and a ramp with a step are fitted to the same points. The residual
in variances and a cost for each change say which is likeliest (Schwarz 1978,
Annals of Statistics 6:461; for the number of changes Yao 1988, Statistics and Probability Letters
6:181). Points that are like their neighbours are first made independent of them (Prais and Winsten
1954, Cowles Commission Discussion Paper 383).
"""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from dunmist.history.trend import Noise

Floats = npt.NDArray[np.float64]
# twice the logarithm of the days for each of which one step is expected, and of a ramp's
STEP_COST, STEPS_MOST = 9.2, 3
# a ramp has so many points at least, a step so many before it
RAMP_POINTS_LEAST, STEP_POINTS_LEAST = 4, 2
# ramps that are tried together with a step
RAMPS_TRIED = 12
# of a change that no points tell apart from another
NOTHING_LEFT = 1e-6


class Ramp(NamedTuple):
    """A straight rise or fall that begins at one of the points."""

    start: int  # index of its first point
    slope: float  # a day
    error: float  # standard error of the slope
    known_steps: tuple[float, ...] = ()  # how high each known step is with it


class _Changes(NamedTuple):
    """Residual, and the part that changes of one kind explain, a row for each index."""

    rest: Floats  # (points,)
    rows: Floats  # (changes, points)

    def gains(self) -> Floats:
        """Return the reduction of the residual sum of squares by each change."""
        reach = (self.rows * self.rows).sum(axis=1)
        along = self.rows @ self.rest
        can_tell = reach > NOTHING_LEFT * reach.max(initial=0.0)
        return np.where(can_tell, along * along / np.where(can_tell, reach, 1.0), 0.0)

    def given(self, row: Floats) -> "_Changes":
        """Return the residual and the explainable parts, given one change."""
        reach = float(row @ row)
        if reach <= 0:
            return self
        unit = row / np.sqrt(reach)
        rest = self.rest - (self.rest @ unit) * unit
        return _Changes(rest, self.rows - np.outer(self.rows @ unit, unit))


def likelier_ramp(
    days: Floats, values: Floats, noise: Noise, cost: float, known: Sequence[int] = ()
) -> Ramp | None:
    """Return the ramp that explains values better than steps, None if none does.

    ``cost`` is of a ramp, as ``STEP_COST`` is of a step. At the ``known`` indices a step is
    expected and costs nothing. Shapes (points,), days in rising order.
    """
    count = len(values)
    if count < RAMP_POINTS_LEAST + STEP_POINTS_LEAST or noise.spread <= 0:
        return None
    indices = np.arange(count)
    steps = indices >= np.arange(STEP_POINTS_LEAST, count - 1)[:, None]
    ramps = np.maximum(0.0, days - days[: count - RAMP_POINTS_LEAST, None])
    there = np.stack([np.ones(count), *(indices >= index for index in known)])
    rest = _independent(days, values[None, :], noise)[0]
    expected = _independent(days, there, noise)
    ramps = _independent(days, ramps, noise)
    by_step = _Changes(rest, _independent(days, steps.astype(np.float64), noise))
    by_ramp = _Changes(rest, ramps)
    for row in np.linalg.qr(expected.T)[0].T:
        by_step, by_ramp = by_step.given(row), by_ramp.given(row)
    ramp_cost, ramp = _best_ramp(by_step, by_ramp)
    if ramp_cost + cost >= _steps_cost(by_step):
        return None
    fit, *_ = np.linalg.lstsq(np.vstack([expected, ramps[ramp.start]]).T, rest, rcond=None)
    return ramp._replace(known_steps=tuple(fit[1:-1].tolist()))


def _independent(days: Floats, rows: Floats, noise: Noise) -> Floats:
    """Return rows in standard deviations of what each point has that the one before had not."""
    alike = noise.alike ** np.maximum(1.0, np.diff(days))
    made = rows.copy()
    made[:, 1:] = (rows[:, 1:] - alike * rows[:, :-1]) / np.sqrt(1 - alike * alike)
    return made / noise.spread


def _steps_cost(by_step: _Changes) -> float:
    """Return the least cost of no step to some, each the best given those before it."""
    best, left = np.inf, by_step
    for number in range(STEPS_MOST + 1):
        best = min(best, float(left.rest @ left.rest) + STEP_COST * number)
        left = left.given(left.rows[int(np.argmax(left.gains()))])
    return best


def _best_ramp(by_step: _Changes, by_ramp: _Changes) -> tuple[float, Ramp]:
    """Return the least cost of a ramp, alone or with a step, without its own cost."""
    gains = by_ramp.gains()
    index = int(np.argmax(gains))
    found = [_fitted(by_ramp, index, 0.0)]
    # a step that comes first, and the best step with each of the best ramps
    first = by_step.rows[int(np.argmax(by_step.gains()))]
    after = by_ramp.given(first)
    found.append(_fitted(after, int(np.argmax(after.gains())), STEP_COST))
    for index in np.argsort(gains)[::-1][:RAMPS_TRIED].tolist():
        steps_given = by_step.given(by_ramp.rows[index])
        step = by_step.rows[int(np.argmax(steps_given.gains()))]
        found.append(_fitted(by_ramp.given(step), index, STEP_COST))
    return min(found, key=lambda each: each[0])


def _fitted(by_ramp: _Changes, index: int, cost: float) -> tuple[float, Ramp]:
    row = by_ramp.rows[index]
    reach = float(row @ row)
    slope = float(row @ by_ramp.rest) / reach
    left = float(by_ramp.rest @ by_ramp.rest) - slope * slope * reach
    return left + cost, Ramp(index, slope, 1 / float(np.sqrt(reach)))
