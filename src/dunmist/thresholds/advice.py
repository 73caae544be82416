"""What steps take, and what sentences leave out."""

from dunmist.thresholds.units import Figures, Percent, PerSecond, Share


class AdviceLimits(Figures, frozen=True):
    """What steps take and what sentences pass over."""

    # from this share of the time on, tasks that wait are not called none
    waits_least: Share = 0.1
    # one process of several that has this share of what they take is aimed at first
    part_share: Share = 0.8
    # a limit takes about this share of what a program uses now, and leaves at least so much of one
    # CPU that it gets on
    limit_share: Share = 0.5
    # percent of one CPU: below it even a window does not open
    limit_least_percent: Percent = 20
    # pages a second that nobody notices, and a share of swap that is as good as none
    quiet_pages_per_s: PerSecond = 1.0
    # 1 % of swap in use slows nothing
    swap_used_least: Share = 0.01
