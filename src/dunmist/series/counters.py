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
- a reading that says 'unknown' leaves everything unknown up to the next one.
"""

from array import array
from collections.abc import Hashable, Sequence
from typing import Generic, TypeVar

import numpy as np

from dunmist.series.timeline import Floats, Ints, Level, Rate, TimeLine

Key = TypeVar("Key", bound=Hashable)
# an interval may be this much longer than the pace of a source that is read with it
EARLY = 1.25


def increments(
    values: Floats, same: "np.ndarray[tuple[int], np.dtype[np.bool_]]", base: Floats | float
) -> Floats:
    """Return what each reading grew by since the one before it, shape (readings,).

    ``same`` says of each reading whether the one before it is of the same thing; ``base`` is what a
    thing had counted before it was first read, NaN when that is unknown. NaN is 'unknown'.
    """
    before = np.empty(len(values))
    before[1:] = values[:-1]
    before = np.where(same, before, base)
    grown: Floats = values - before
    grown[grown < 0] = np.nan
    return grown


class Readings(Generic[Key]):
    """Figures of several things by key, filled tick by tick; each reading has all ``columns``."""

    def __init__(self, *columns: str) -> None:
        self.columns = columns
        self._rows: dict[Key, array[int]] = {}
        self._values: dict[Key, array[float]] = {}

    def add(self, row: int, key: Key, figures: Sequence[float | None]) -> None:
        """Take what was read at the ``row``-th tick; None is 'unknown'."""
        rows = self._rows.get(key)
        if rows is None:
            rows = self._rows[key] = array("i")
            self._values[key] = array("d")
        rows.append(row)
        self._values[key].extend(np.nan if one is None else one for one in figures)

    def over(self, line: TimeLine) -> "dict[Key, Track]":
        """Return the readings of each thing on a time line, in the order in which they came."""
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
            )
            for key, rows in self._rows.items()
        }


class Track:
    """The readings of one thing: the rows of their ticks, and the figures by column."""

    def __init__(self, line: TimeLine, rows: Ints, figures: dict[str, Floats]) -> None:
        self.line = line
        self.rows = rows
        self._figures = figures

    @property
    def first_row(self) -> int:
        """The tick at which the thing was first read."""
        return int(self.rows[0])

    def level(self, column: str) -> Level:
        """Return what was read last at each tick; unknown before the first reading."""
        held = np.diff([*self.rows, self.line.ticks])
        before = np.full(self.first_row, np.nan)
        return Level(self.line, np.concatenate([before, np.repeat(self._figures[column], held)]))

    def rate(
        self,
        column: str,
        *,
        base: float = np.nan,
        forgives: float = 0.0,
        wraps_at: float | None = None,
        read_every_s: float = 0.0,
    ) -> Rate:
        """Return how fast a counter grew in each interval, a second."""
        grown = self._grown(column, base, forgives, wraps_at)
        amounts = np.zeros(self.line.intervals)
        amounts[: max(0, self.first_row - 1)] = np.nan
        if read_every_s:
            self._spread(amounts, grown, read_every_s)
        else:
            inside = self.rows > 0
            amounts[self.rows[inside] - 1] = grown[inside]
        for place in np.flatnonzero(np.isnan(self._figures[column])):
            following = self.rows[place + 1] if place + 1 < len(self.rows) else None
            amounts[max(0, self.rows[place] - 1) : following] = np.nan
        return Rate(self.line, amounts / self.line.interval_s)

    def _spread(self, amounts: Floats, grown: Floats, read_every_s: float) -> None:
        """Spread what a counter grew by over the time since it was read before."""
        for place, row in enumerate(self.rows):
            if row > 0:
                first = self._since(place, row, read_every_s)
                weights = self.line.interval_s[first:row]
                amounts[first:row] = grown[place] * weights / weights.sum()

    def _grown(self, column: str, base: float, forgives: float, wraps_at: float | None) -> Floats:
        values = self._figures[column]
        same = np.arange(len(values)) > 0
        grown = increments(values, same, base)
        fallen = np.flatnonzero(np.isnan(grown) & same)
        for place in fallen:
            step = values[place] - values[place - 1]
            if wraps_at and step < 0:
                grown[place] = step + wraps_at if step + wraps_at >= 0 else np.nan
            elif -forgives <= step < 0:
                grown[place] = 0.0
        return grown

    def _since(self, place: int, row: int, read_every_s: float) -> int:
        """Return the first interval to which the growth up to a reading belongs."""
        if not place:
            return row - 1
        earliest_s = self.line.at_s[row] - EARLY * read_every_s
        first = int(np.searchsorted(self.line.at_s, earliest_s))
        return min(row - 1, max(int(self.rows[place - 1]), first))
