"""Limits of confidence, of the stopping rule, and of bad windows."""

from dunmist.thresholds.units import Figures, Number, Seconds, Share


class ConfidenceLimits(Figures, frozen=True):
    """Limits of confidence, and its words."""

    # the ranking is never sure that its answer is wrong, ...
    least: Share = 0.05
    # ... nor that it is right: no patient list covers all computers
    most: Share = 0.95
    # two that take the same are even; a twentieth of what both take tells them apart
    margin_slope: Number = 40.0
    # fitted on the hard patients together with margin_slope
    margin_middle: Number = -0.01
    # quarters of an interval at which the length of a capture counts half: after a few, one more
    # adds little
    quarters_half: Number = 2.0
    # a confidence from here on is not worth a word: it is that of nearly every clear case
    told_below: Share = 0.90
    # from these on it is called very likely, and likely
    very: Share = 0.85
    # the middle of the range between a guess and very likely
    likely: Share = 0.7
    # limits below which confidence falls: attributed share, and number of intervals
    well_covered: Share = 0.8
    # with fewer of the planned ticks than this, those that were missed may tell another story
    taken_least: Share = 0.5
    # intervals: below this a single odd one changes the median
    few_intervals: Number = 8


class SureLimits(Figures, frozen=True):
    """Confidence from which sampling may stop."""

    # a state that lasts half of the time is certain if its share is at most or at least this
    # share of the intervals, with so small an error for each level of each resource
    share_low: Share = 0.3
    # the same distance from one half as share_low
    share_high: Share = 0.7
    # for eight resources and three levels it adds up to about a tenth at worst
    error: Share = 0.005
    # a program that starts is busy for some seconds, and that is no verdict
    least_s: Seconds = 6.0
    # and the first culprit must be this likely
    confidence_least: Share = 0.8


class BadWindowLimits(Figures, frozen=True):
    """Limits of a bad window."""

    # in a capture longer than this the worst window is looked for, which may be as short as this,
    # with rests in it no longer than this
    long_s: Seconds = 300.0
    # the shortest capture that is judged by itself with some confidence
    least_s: Seconds = 15.0
    # a person calls two hangs within half a minute one problem
    bridge_s: Seconds = 30.0
