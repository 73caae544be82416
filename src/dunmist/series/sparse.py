"""Readings that a capture holds only where they changed, spread over all its ticks."""

from collections import defaultdict
from collections.abc import Hashable, Sequence
from typing import Generic, TypeVar

import numpy as np

from dunmist.series.rates import Floats

Key = TypeVar("Key", bound=Hashable)


class Sparse(Generic[Key]):
    """Collects rows of figures by key as ticks come in.

    ``over(ticks)`` gives for each key an array of shape (ticks, figures): what was read last, NaN
    before the first reading and where a reading says None.
    """

    def __init__(self, width: int) -> None:
        self._width = width
        self._rows: dict[Key, list[tuple[int, Sequence[float | None]]]] = defaultdict(list)

    def add(self, row: int, key: Key, figures: Sequence[float | None]) -> None:
        """Take what was read at the ``row``-th tick."""
        self._rows[key].append((row, figures))

    def over(self, ticks: int) -> dict[Key, Floats]:
        """Return the arrays of all keys, in the order in which they came."""
        return {key: self._filled(rows, ticks) for key, rows in self._rows.items()}

    def _filled(self, rows: list[tuple[int, Sequence[float | None]]], ticks: int) -> Floats:
        filled = np.full((ticks, self._width), np.nan)
        ends = [row for row, _ in rows[1:]] + [ticks]
        for (row, figures), end in zip(rows, ends, strict=True):
            filled[row:end] = [np.nan if figure is None else figure for figure in figures]
        return filled
