"""Limits of differences between captures, and of proofs of a cause."""

from dunmist.thresholds.units import BytesPerSecond, Cores, Figures, Kelvin, Number, Share


class CompareLimits(Figures, frozen=True):
    """Limits of differences between captures."""

    # fewer intervals tell nothing of how much chance does, nor does a capture of which most is
    # missing
    intervals_least: Number = 8
    # of the time that the capture covers: what is missing could be different
    sampled_least: Share = 0.5
    # good captures that make something usual
    captures_least: Number = 2
    # the least difference that anybody would notice: five points are seen on any picture, sensors
    # are read to one degree and a room changes by some, and less of the greatest clock is the
    # governor's doing
    least_share: Share = 0.05
    # more than the reading error and the change of a room together
    least_kelvin: Kelvin = 3.0
    # of the greatest clock
    least_clock_share: Share = 0.05
    # of an application: what it takes to be seen at all, and a part of the whole computer
    least_cores: Cores = 0.1
    # of all CPUs
    least_of_processors: Share = 0.02
    # of all memory
    least_of_memory: Share = 0.02
    # the same figure that calls an application a user of the disk (signs)
    least_bytes_per_s: BytesPerSecond = 500_000.0
    # temperature and clock are compared where at least this share of both captures has the same
    # use, ...
    overlap_least: Share = 0.25
    # ... which may differ by so much
    overlap_reach: Share = 0.06
    # captures that agree to the last digit would call everything unusual: they spread by at least
    # this share of the least difference
    spread_least: Share = 0.1


class EffectLimits(Figures, frozen=True):
    """Whether an act helped."""

    # before and after must differ by more than chance (compare/resampling.py), and by this much
    least_change: Share = 0.03


class ProveLimits(Figures, frozen=True):
    """Limits of a proof by pausing and resuming."""

    # the cause makes tasks wait longer than all others together, so that at least half goes with
    # it; a fifth is a part worth a word
    cause_fall: Share = 0.5
    # a fifth of the waiting is worth a word
    part_fall: Share = 0.2
    # less than this makes no other task wait noticeably: they wait one part in twenty of their
    # time, a request is under way half of the time, or a line carries what a single picture would
    waiting_least: Share = 0.05
    # requests in the queue, mean
    queue_least: Number = 0.5
    # bytes a second
    bytes_least: BytesPerSecond = 100_000.0
    # writes that collected in memory go on when their program is paused: where that takes longer
    # than this share of a phase, nothing could follow within it
    backlog_most: Share = 0.25
