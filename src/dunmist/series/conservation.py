"""Find impossible intervals: more CPUs used than exist, and shares above one.

Counters are read one after another while time goes on, so that a figure may be a little above what
is possible: it is set to that. A figure further above comes from a damaged capture, from a counter
with a new meaning, or from a failed reading. It is dropped, counted by subject, and reported as a
blind spot.
"""

from collections import Counter

import numpy as np

from dunmist.series.timeline import Floats, Rate, TimeLine

# sources of one tick are read within this share of an interval and these seconds of one another
SLACK_SHARE, SLACK_S = 0.10, 0.04


class Impossible:
    """Counts by subject what was dropped, and knows how exact a capture's figures can be."""

    def __init__(self, line: TimeLine, took_s: Floats) -> None:
        """``took_s`` is how long the reading of each tick took, shape (ticks,)."""
        self.line = line
        self.dropped: Counter[str] = Counter()
        # both ends of an interval may be read late
        self.slack_s: Floats = SLACK_S + took_s[1:] + took_s[:-1]

    @property
    def most_share(self) -> Floats:
        """Greatest possible reading of 'all of the time' in each interval, as a share of it."""
        return 1.0 + SLACK_SHARE + self.slack_s / self.line.interval_s

    def possible(self, subject: str, values: Floats, most: Floats | float) -> Floats:
        """Return figures of intervals none of which is above ``most`` or below 0."""
        with np.errstate(invalid="ignore"):
            beyond = (values > most * self.most_share) | (values < 0)
        self.dropped[subject] += int(beyond.sum())
        kept: Floats = np.where(beyond, np.nan, np.minimum(values, most))
        return kept

    def share(self, subject: str, rate: Rate) -> Rate:
        """Return a share of time in each interval that is at most 1."""
        return Rate(rate.line, self.possible(subject, rate.values, 1.0))
