"""Compute the probability that an application is the right culprit.

It is built from the margin to the strongest other cause, the share of the kernel's figures that
could be attributed, and the number of intervals. The thresholds of the curve were set on hard
patients of one set of seeds and are reported on another (docs/accuracy.md).
"""

import math

from dunmist.thresholds import Thresholds

# the threshold counts quarters of an interval
QUARTERS = 4.0
# remains of the data quality if nothing could be attributed: the margin still tells something
UNCOVERED_QUALITY = 0.7


def confidence_of(score: float, causes: list[float], quality: float, limits: Thresholds) -> float:
    """Return the probability, 0 to 1, that an application with this score is the right one.

    ``quality`` is that of the data.
    """
    table = limits.confidence
    others = sorted(causes, reverse=True)
    # its own score is no rival, an equal one of another is
    if score in others:
        others.remove(score)
    rival = others[0] if others else 0.0
    margin = (score - rival) / max(score + rival, 1e-12)
    # a logistic curve: certain without a rival, one half between two equals
    by_margin = 1.0 / (1.0 + math.exp(-table.margin_slope * (margin - table.margin_middle)))
    sure = by_margin * quality
    return min(table.most, max(table.least, sure))


def data_quality(
    coverage: float | None, intervals: int, limits: Thresholds, taken: float = 1.0
) -> float:
    """Return the data quality of a capture, 0 to 1: its length times its coverage.

    ``taken`` is the share of the planned ticks that were taken; the rest fell when the computer
    was busiest, so where it is less than half the others may tell another story.
    """
    by_length = intervals / (intervals + limits.confidence.quarters_half / QUARTERS)
    covered = 1.0 if coverage is None else coverage
    by_ticks = min(1.0, taken / limits.confidence.taken_least)
    return by_ticks * by_length * (UNCOVERED_QUALITY + (1.0 - UNCOVERED_QUALITY) * covered)
