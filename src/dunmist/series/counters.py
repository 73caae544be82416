"""Counters: what was read of them as ticks came in, and the one rule for their differences.

The kernel publishes totals since some start. What a counter grew by between two readings of the
same thing belongs to the interval that ends with the second one:

- first sight: nothing is known of the time before, unless the thing is known to have begun inside
  the capture (``base`` 0): then all that it has counted belongs to the interval of its first
  reading;
- a counter that falls back was reset or is another one of the same name: unknown there; some of the
  kernel's counters fall back a little without that (``forgives``), which is no growth;
- a capture holds what changed only, so a tick without a reading means no growth; a source that is
  read more seldom than each tick grew evenly since it was read before (``read_every_s``);
- a thing is read some time after the tick began, which on a slow computer may be a good part of an
  interval: a counter of time is taken for the time between its own two readings (``span_factors``);
- a reading that says 'unknown' leaves everything unknown up to the next one.

``sampling/deltas.py`` follows the same rules tick by tick, for the live view.
"""

from array import array
from collections.abc import Collection, Hashable, Sequence
from typing import Generic, TypeVar

import numpy as np

from dunmist.sampling.deltas import READ_APART_S
from dunmist.series.timeline import Bools, Floats, Ints, Level, Rate, TimeLine

Key = TypeVar("Key", bound=Hashable)
# from a tenth of an interval on, a first reading that was late is made up for
LATE_START = 1.1
# an interval may be this much longer than the pace of a source that is read with it
EARLY = 1.25


def increments(values: Floats, same: Bools, base: Floats | float) -> Floats:
    """Return the growth of each reading since the one before it, shape (readings,).

    ``same`` says of each reading whether the one before it is of the same thing; ``base`` is what a
    thing had counted before it was first read, NaN when that is unknown. NaN is 'unknown'.
    """
    before = np.empty(len(values))
    before[1:] = values[:-1]
    before = np.where(same, before, base)
    grown: Floats = values - before
    grown[grown < 0] = np.nan
    return grown


def span_factors(line: TimeLine, rows: Ints, after_s: Floats, same: Bools) -> Floats:
    """Return the factor for the growth up to each reading, shape (readings,).

    It is the interval's length as a share of the time between the two readings, ``after_s`` being
    how long after its tick each was taken. Where a tick between them has no reading, the thing was
    read then all the same, and nobody wrote down when: 1. Unknown where they are too near.
    """
    factors = np.ones(len(rows))
    near = np.flatnonzero(same & (np.diff(rows, prepend=-2) == 1))
    nominal_s = line.at_s[rows[near]] - line.at_s[rows[near] - 1]
    real_s = nominal_s + after_s[near] - after_s[near - 1]
    factors[near] = np.where(
        real_s < READ_APART_S, np.nan, nominal_s / np.maximum(real_s, READ_APART_S)
    )
    return factors


def late_start(factors: Floats, rows: Ints) -> Floats:
    """Return of factors of ``span_factors`` those of a first tick that took long to read, else 1.

    What was moved since then belongs to a shorter time than the first interval; later on the error
    of one interval is made up for in the next.
    """
    is_late = (rows == 1) & ~(factors < LATE_START)
    return np.where(is_late, factors, 1.0)


class Readings(Generic[Key]):
    """Figures of several things by key, filled tick by tick; each reading has all ``columns``."""

    def __init__(self, *columns: str) -> None:
        self.columns = columns
        self._rows: dict[Key, array[int]] = {}
        self._values: dict[Key, array[float]] = {}
        self._after_s: dict[Key, array[float]] = {}

    def __len__(self) -> int:
        return len(self._rows)

    def add(
        self, row: int, key: Key, figures: Sequence[float | None], after_s: float = 0.0
    ) -> None:
        """Take what was read ``after_s`` after the ``row``-th tick began; None is 'unknown'."""
        rows = self._rows.get(key)
        if rows is None:
            rows = self._rows[key] = array("i")
            self._values[key] = array("d")
            self._after_s[key] = array("d")
        rows.append(row)
        self._after_s[key].append(after_s)
        self._values[key].extend(np.nan if figure is None else figure for figure in figures)

    def unmoved(self, key: Key) -> dict[str, float] | None:
        """Return the figures of what was read at the first tick and did not change since."""
        rows = self._rows.get(key)
        if rows is None or len(rows) > 1 or rows[0]:
            return None
        return dict(zip(self.columns, self._values[key], strict=True))

    def over(self, line: TimeLine, keys: Collection[Key] | None = None) -> "dict[Key, Track]":
        """Return the readings of each thing on a time line, in the order in which they came.

        With ``keys`` of these only.
        """
        width = len(self.columns)
        return {
            key: Track(
                line,
                np.asarray(rows, dtype=np.int64),
                dict(
                    zip(
                        self.columns,
                        np.asarray(self._values[key]).reshape(-1, width).T,
                        strict=True,
                    )
                ),
                np.asarray(self._after_s[key]),
            )
            for key, rows in self._rows.items()
            if keys is None or key in keys
        }


class Track:
    """The readings of one thing: the rows of their ticks, and the figures by column."""

    def __init__(
        self, line: TimeLine, rows: Ints, figures: dict[str, Floats], after_s: Floats
    ) -> None:
        self.line = line
        self.rows = rows
        self._figures = figures
        self._after_s = after_s

    @property
    def first_row(self) -> int:
        """The tick at which the thing was first read."""
        return int(self.rows[0])

    def is_known(self, column: str) -> bool:
        """Whether any reading of a column says more than 'unknown'."""
        return not bool(np.isnan(self._figures[column]).all())

    def level(self, column: str) -> Level:
        """Return the latest reading at each tick; unknown before the first reading."""
        held = np.diff([*self.rows, self.line.ticks])
        before = np.full(self.first_row, np.nan)
        return Level(self.line, np.concatenate([before, np.repeat(self._figures[column], held)]))

    def total(self, *columns: str) -> float | None:
        """Return the sum of the latest readings of counters, None if one is unknown."""
        newest = float(sum(self._figures[column][-1] for column in columns))
        return None if np.isnan(newest) else newest

    def grown_in_all(self, column: str, base: float = np.nan) -> float:
        """Return the growth of a counter from ``base``, or its first reading, to its last.

        What happened is counted whenever it did; only how fast is not known of a gap.
        """
        figures = self._figures[column]
        return max(0.0, float(figures[-1] - (figures[0] if np.isnan(base) else base)))

    def rate(
        self,
        column: str,
        *,
        base: float = np.nan,
        forgives: float = 0.0,
        wraps_at: float | None = None,
        read_every_s: float = 0.0,
        in_bursts: bool = False,
    ) -> Rate:
        """Return the rate of a counter in each interval, per second.

        Of amounts that come ``in_bursts`` the sum over the capture is to be right.
        """
        grown = self._grown(column, base, forgives, wraps_at, in_bursts=in_bursts)
        amounts = np.zeros(self.line.intervals)
        amounts[: max(0, self.first_row - 1)] = np.nan
        if read_every_s:
            self._spread(amounts, grown, read_every_s)
        else:
            inside = self.rows > 0
            amounts[self.rows[inside] - 1] = grown[inside]
        for index in np.flatnonzero(np.isnan(self._figures[column])):
            following = self.rows[index + 1] if index + 1 < len(self.rows) else None
            amounts[max(0, self.rows[index] - 1) : following] = np.nan
        return Rate(self.line, self.line.per_second(amounts))

    def _spread(self, amounts: Floats, grown: Floats, read_every_s: float) -> None:
        """Spread what a counter grew by over the time since it was read before."""
        for index, row in enumerate(self.rows):
            if row > 0:
                first = self._since(index, row, read_every_s)
                weights = self.line.interval_s[first:row]
                amounts[first:row] = grown[index] * weights / weights.sum()

    def _grown(
        self, column: str, base: float, forgives: float, wraps_at: float | None, *, in_bursts: bool
    ) -> Floats:
        values = self._figures[column]
        same = np.arange(len(values)) > 0
        grown = increments(values, same, base)
        fallen = np.flatnonzero(np.isnan(grown) & same)
        for index in fallen:
            step = values[index] - values[index - 1]
            if wraps_at and step < 0:
                grown[index] = step + wraps_at if step + wraps_at >= 0 else np.nan
            elif -forgives <= step < 0:
                grown[index] = 0.0
        factors = span_factors(self.line, self.rows, self._after_s, same)
        return grown * (late_start(factors, self.rows) if in_bursts else factors)

    def _since(self, index: int, row: int, read_every_s: float) -> int:
        """Return the first interval to which the growth up to a reading belongs."""
        if not index:
            return row - 1
        earliest_s = self.line.at_s[row] - EARLY * read_every_s
        first = int(np.searchsorted(self.line.at_s, earliest_s))
        return min(row - 1, max(int(self.rows[index - 1]), first))
