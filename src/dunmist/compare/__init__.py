"""Compares captures: what differs between them beyond noise.

Takes examined captures, gives a ``Comparison`` of two or what is ``Unusual`` beside several, as
figures and keys. It words nothing: advice does.
"""

from dunmist.compare.answer import Comparison, compare
from dunmist.compare.comparable import Hindrance
from dunmist.compare.figures import Examined, Figure
from dunmist.compare.resampling import CHANCE_MOST, difference_of_means
from dunmist.compare.tested import Difference
from dunmist.compare.usual import Odd, Range, Unusual, unusual

__all__ = [
    "CHANCE_MOST",
    "Comparison",
    "Difference",
    "Examined",
    "Figure",
    "Hindrance",
    "Odd",
    "Range",
    "Unusual",
    "compare",
    "difference_of_means",
    "unusual",
]
