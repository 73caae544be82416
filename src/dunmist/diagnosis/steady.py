"""Find what lasted until the end of a capture without a break."""

from typing import NamedTuple

import numpy as np

from dunmist.series import Rate

# a rate that is half of the newest one is another state
SAME_SHARE = 0.5
# intervals whose median is the newest rate
NEWEST = 3


class Steady(NamedTuple):
    """Rate at the end without a break, and its duration."""

    rate: float
    span_s: float


def find_steady(rate: Rate) -> Steady | None:
    """Return the rate that lasted until the end, None if nothing is known of the end."""
    values, spans_s = np.nan_to_num(rate.values), rate.line.interval_s
    newest = float(np.median(values[-NEWEST:]))
    if newest <= 0:
        return None
    others = np.flatnonzero(values < SAME_SHARE * newest)
    # a single odd interval at the very end is no other state
    first = int(others[others < len(values) - NEWEST].max(initial=-1)) + 1
    lasted, lasted_s = values[first:], spans_s[first:]
    return Steady(float((lasted * lasted_s).sum() / lasted_s.sum()), float(lasted_s.sum()))
