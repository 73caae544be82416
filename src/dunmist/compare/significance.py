"""Decide which differences are more than chance, and large enough to matter.

Of hundreds of figures some differ by chance: what is said is held to a false discovery rate
(Benjamini and Hochberg 1995, Journal of the Royal Statistical Society B 57:289).
"""

import math
from collections.abc import Iterable
from typing import NamedTuple

from dunmist.compare.figures import Figure
from dunmist.compare.resampling import CHANCE_MOST, difference_of_means

# one value has no spread
VALUES_LEAST = 2


class Difference(NamedTuple):
    """A figure before and after."""

    figure: Figure
    before: float
    after: float
    low: float  # 95 % interval of the difference
    high: float
    p_value: float  # of this figure alone, before the correction for many figures
    is_clear: bool  # neither chance nor too small to matter

    @property
    def change(self) -> float:
        """By how much it is greater afterwards."""
        return self.after - self.before


def tested(figures: Iterable[Figure]) -> list[Difference]:
    """Return the differences of all figures that can be compared, in their order."""
    from scipy.stats import false_discovery_control

    usable = [
        figure for figure in figures if min(len(figure.before), len(figure.after)) >= VALUES_LEAST
    ]
    differences = [difference_of_means(pair.before, pair.after) for pair in usable]
    if not differences:
        return []
    likely = false_discovery_control(
        [difference.p_value for difference in differences], method="bh"
    )
    return [
        Difference(
            figure=figure,
            before=float(figure.before.mean()),
            after=float(figure.after.mean()),
            low=max(difference.low, -_reach(figure)),
            high=min(difference.high, _reach(figure)),
            p_value=float(p_value),
            is_clear=bool(p_value <= CHANCE_MOST and abs(difference.difference) >= figure.least),
        )
        for figure, difference, p_value in zip(usable, differences, likely, strict=True)
    ]


def _reach(figure: Figure) -> float:
    """Return the greatest possible difference of a figure."""
    return 1.0 if figure.unit == "share" else math.inf
