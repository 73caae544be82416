"""The time line of a capture, and the two kinds of figures that stand on it.

A capture has ticks, and between two ticks an interval. A figure that is read at a point in time
(memory, a temperature) is a ``Level``, one value a tick. A figure from the growth of a counter, or
that holds for some time, is a ``Rate``, one value an interval. They are different types that do not
mix: a level is taken to intervals by ``at_ends`` only, and nobody cuts arrays by hand.

NaN is 'unknown'. Means and quantiles of rates are weighted by the real length of each interval, so
that late ticks weigh what they lasted. An interval in which nothing was sampled for several periods
is a gap. Nobody knows what happened in it: the computer may have slept, or have been stopped. So it
is in no rate and weighs nothing.
"""

from collections.abc import Iterable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Self

import numpy as np

# the types cost a triage a twentieth of its time, and nobody looks at them while it runs
if TYPE_CHECKING:
    from numpy.typing import NDArray

    Floats = NDArray[np.float64]
    Ints = NDArray[np.int64]
    Bools = NDArray[np.bool_]
else:
    Floats = Ints = Bools = np.ndarray
# two ticks at the same time would divide by 0
LEAST_INTERVAL_S = 1e-6
# an interval is a gap when it is longer than this many periods; a busy computer may be late by some
GAP_PERIODS = 4.0
# and when it is longer than this, as ticks a tenth of a second apart are late easily
GAP_LEAST_S = 2.0
# a tick that comes so many periods after the one before it makes up for a late one
AT_ONCE = 0.5
# a sum of weights may miss the share that it stands for by the last digit
ROUNDING = 1e-9


class TimeLine:
    """Times of the ticks of a capture, in seconds since the first.

    ``every_s`` is how far apart they were meant to be, 0 where nobody said. ``gaps`` are the
    intervals in which nothing was sampled, where that was found before ticks were put together.
    """

    def __init__(
        self, at_s: Floats, every_s: float = 0.0, gaps: Sequence[int] | None = None
    ) -> None:
        self.at_s = at_s
        self._every_s = every_s
        self._gaps = gaps

    @cached_property
    def is_gap(self) -> Bools:
        """Whether an interval is one in which nothing was sampled, shape (intervals,)."""
        whole_s = np.diff(self.at_s)
        if not len(whole_s) or self._gaps is not None:
            known = np.zeros(len(whole_s), dtype=bool)
            known[list(self._gaps or ())] = True
            return known
        # if ticks usually come late, such an interval is no gap; a tick that follows a late one at
        # once says nothing of that
        apart_s = np.sort(whole_s[whole_s >= AT_ONCE * self._every_s])
        usual_s = float(apart_s[(len(apart_s) - 1) // 2]) if len(apart_s) else 0.0
        period_s = max(self._every_s, usual_s)
        gap: Bools = whole_s > max(GAP_PERIODS * period_s, GAP_LEAST_S)
        return gap

    @cached_property
    def interval_s(self) -> Floats:
        """Length of each interval that counts as measured, shape (intervals,): no gap has any."""
        measured = np.where(self.is_gap, 0.0, np.diff(self.at_s))
        return np.maximum(measured, LEAST_INTERVAL_S)

    def per_second(self, amounts: Floats) -> Floats:
        """Return amounts of intervals a second, unknown in gaps."""
        rates: Floats = np.where(self.is_gap, np.nan, amounts / self.interval_s)
        return rates

    @property
    def ticks(self) -> int:
        """Number of ticks."""
        return len(self.at_s)

    @property
    def intervals(self) -> int:
        """Number of intervals, one less than the ticks."""
        return len(self.at_s) - 1

    @property
    def duration_s(self) -> float:
        """Seconds from the first tick to the last."""
        return float(self.at_s[-1])

    @property
    def measured_s(self) -> float:
        """Seconds of it in which the computer was sampled."""
        return self.duration_s - self.gap_s

    @property
    def gap_s(self) -> float:
        """Seconds of it in which nothing was sampled."""
        return float(np.diff(self.at_s)[self.is_gap].sum())


class _Figures:
    """Common part of levels and rates; ``values`` has one value for each index of the line."""

    __slots__ = ("line", "values")
    # an array on the left of an operator would take the values and lose the line
    __array_ufunc__ = None

    def __init__(self, line: TimeLine, values: Floats) -> None:
        if len(values) != self._length(line):
            raise ValueError(f"{len(values)} values for {self._length(line)} points")
        self.line = line
        self.values = values

    @staticmethod
    def _length(line: TimeLine) -> int:
        raise NotImplementedError

    @classmethod
    def unknown(cls, line: TimeLine) -> Self:
        """Return figures that are all unknown."""
        return cls(line, np.full(cls._length(line), np.nan))

    @classmethod
    def nothing(cls, line: TimeLine) -> Self:
        """Return figures that are all 0."""
        return cls(line, np.zeros(cls._length(line)))

    @classmethod
    def total_of(cls, line: TimeLine, parts: Iterable[Self]) -> Self:
        """Return the sum of figures on one line, 0 without any."""
        return cls(line, sum((part.values for part in parts), np.zeros(cls._length(line))))

    @classmethod
    def greatest_of(cls, parts: list[Self]) -> Self:
        """Return the greatest known of several at each index; raises IndexError without any."""
        return cls(parts[0].line, np.fmax.reduce([part.values for part in parts]))

    def __add__(self, other: Self | float) -> Self:
        return self._like(self.values + _plain(other))

    def __sub__(self, other: Self | float) -> Self:
        return self._like(self.values - _plain(other))

    def __mul__(self, other: Self | float) -> Self:
        return self._like(self.values * _plain(other))

    def __truediv__(self, other: Self | float) -> Self:
        with np.errstate(invalid="ignore", divide="ignore"):
            return self._like(self.values / _plain(other))

    def _like(self, values: Floats) -> Self:
        return type(self)(self.line, values)

    @property
    def is_known(self) -> bool:
        """Whether any value is known."""
        return not bool(np.isnan(self.values).all())

    def between(self, least: float, most: float) -> Self:
        """Return the figures with those beyond the bounds set to them."""
        return self._like(np.clip(self.values, least, most))

    def known_or(self, value: float) -> Self:
        """Return the figures with a value in the place of those that are unknown."""
        return self._like(np.where(np.isnan(self.values), value, self.values))

    def where(self, condition: Self, value: float = np.nan) -> Self:
        """Return the figures where a condition is met, and another value where it is not."""
        return self._like(np.where(condition.values > 0, self.values, value))

    def known_with(self, other: Self) -> Self:
        """Return the figures where another figure is known, and unknown elsewhere."""
        return self._like(np.where(np.isnan(other.values), np.nan, self.values))

    def known(self) -> Floats:
        """Return the known values in order."""
        known: Floats = self.values[~np.isnan(self.values)]
        return known

    def greatest(self) -> float | None:
        """Return the greatest known value, None if all are unknown."""
        return float(self.known().max()) if self.is_known else None

    def least(self) -> float | None:
        """Return the smallest known value, None if all are unknown."""
        return float(self.known().min()) if self.is_known else None

    def median(self) -> float | None:
        """Return the median of the known values, None if all are unknown."""
        ordered = np.sort(self.known())
        if not len(ordered):
            return None
        # asked of every application: np.median takes eight times as long
        return float(ordered[(len(ordered) - 1) // 2 : len(ordered) // 2 + 1].mean())

    def last(self) -> float | None:
        """Return the newest known values, None if all are unknown."""
        return float(self.known()[-1]) if self.is_known else None

    def curve(self, points: int) -> list[float | None]:
        """Return the means of at most so many equal parts, None for one that is unknown."""
        return [float(np.mean(part)) if len(part) else None for part in self._equal_parts(points)]

    def peaks(self, points: int) -> list[float | None]:
        """Return the greatest of at most so many equal parts, None for one unknown."""
        return [float(np.max(part)) if len(part) else None for part in self._equal_parts(points)]

    def _equal_parts(self, points: int) -> list[Floats]:
        parts = np.array_split(self.values, min(points, len(self.values)))
        return [part[~np.isnan(part)] for part in parts]


class Level(_Figures):
    """A figure that is read at each tick, shape (ticks,)."""

    __slots__ = ()

    @staticmethod
    def _length(line: TimeLine) -> int:
        return line.ticks

    def at_ends(self) -> "Rate":
        """Return the level at the end of each interval."""
        return Rate(self.line, self.values[1:])

    def change(self) -> float:
        """Return the rise from the first tick to the last, NaN if unknown."""
        return float(self.values[-1] - self.values[0])

    def mean(self) -> float:
        """Return the mean over the ticks at which it is known, 0 without any."""
        return float(self.known().mean()) if self.is_known else 0.0


class Rate(_Figures):
    """A figure of each interval, shape (intervals,): an amount a second, or a share."""

    __slots__ = ()

    @staticmethod
    def _length(line: TimeLine) -> int:
        return line.intervals

    def mean(self) -> float:
        """Return the mean over the time for which it is known, 0 without any."""
        known_mean = self.known_mean()
        return 0.0 if known_mean is None else known_mean

    def known_mean(self) -> float | None:
        """Return the mean over the time for which it is known, None without any."""
        values, weights = self.values, self.line.interval_s
        unknown = np.isnan(values)
        if unknown.any():
            if unknown.all():
                return None
            values, weights = values[~unknown], weights[~unknown]
        # asked of every application, several times: np.average takes five times as long
        return float((values * weights).sum() / weights.sum())

    def total(self) -> float:
        """Return the amount over the whole capture; what is unknown counts as nothing."""
        amounts = self.values * self.line.interval_s
        amounts[np.isnan(amounts)] = 0.0
        return float(amounts.sum())

    def quantile(self, q: float) -> float:
        """Return the weighted quantile: the greatest value reached for 1 - q of the known time.

        0 where nothing is known.
        """
        there = ~np.isnan(self.values)
        # most programs of a computer do nothing, at all of its ticks
        if not self.values[there].any():
            return 0.0
        values, weights = self.values[there], self.line.interval_s[there]
        order = np.argsort(-values)
        reached = np.cumsum(weights[order]) >= (1.0 - q) * weights.sum() - ROUNDING
        return float(values[order][np.argmax(reached)])

    def over(self, least_s: float) -> "Rate":
        """Return the mean over a window of at least ``least_s`` around each interval.

        What comes in bursts shorter than that is described by its mean rather than by its pauses.
        """
        interval_s = self.line.interval_s
        reach = max(0, round((least_s / float(np.median(interval_s)) - 1) / 2))
        # the whole capture is the longest window
        reach = min(reach, self.line.intervals - 1)
        if not reach:
            return self
        kernel = np.ones(2 * reach + 1)
        weights = np.where(np.isnan(self.values), 0.0, interval_s)
        summed = np.convolve(np.nan_to_num(self.values) * weights, kernel, mode="full")
        over_s = np.convolve(weights, kernel, mode="full")
        inside = slice(reach, reach + self.line.intervals)
        with np.errstate(invalid="ignore"):
            return Rate(self.line, summed[inside] / over_s[inside])

    def counts(self) -> Floats:
        """Return the amount of each interval itself rather than a second's; unknown is nothing."""
        amounts: Floats = np.nan_to_num(self.values) * self.line.interval_s
        return amounts

    def at_ticks(self) -> Level:
        """Return each interval's figure at the tick that ends it; unknown at the first tick."""
        return Level(self.line, np.concatenate([[np.nan], self.values]))

    def at_least(self, bound: float) -> "Rate":
        """Return the condition, 0 or 1, that a figure is known and not below a bound."""
        return Rate(self.line, (self.values >= bound).astype(float))

    def at_most(self, bound: float) -> "Rate":
        """Return the condition, 0 or 1, that a figure is known and not above a bound."""
        return Rate(self.line, (self.values <= bound).astype(float))

    def __and__(self, other: "Rate") -> "Rate":
        return Rate(self.line, np.minimum(self.values, other.values))

    def __or__(self, other: "Rate") -> "Rate":
        return Rate(self.line, np.maximum(self.values, other.values))


def _plain(value: _Figures | float) -> Floats | float:
    return value.values if isinstance(value, _Figures) else value
