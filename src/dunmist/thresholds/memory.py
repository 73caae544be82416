"""Limits of memory."""

from dunmist.thresholds.units import Bytes, Figures, PerSecond, Seconds, Share


class MemoryLimits(Figures, frozen=True):
    """Memory."""

    # share of the memory that is not available
    busy: Share = 0.80
    # the kernel writes out in bursts of a second or two, so the mean over this time is judged
    burst_s: Seconds = 3.0
    # share of time in which some tasks waited for memory
    strained_pressure: Share = 0.10
    # choked: as long as this all tasks together make little progress
    choked_pressure: Share = 0.40
    # when pages are evicted and read again at once while memory is short, this share is enough
    thrashing_pressure: Share = 0.03
    # at this rate the kernel does little else, whatever the stall accounting says
    thrashing_pages_per_s: PerSecond = 2500.0
    # without stall accounting: pages per second to and from swap, or read again soon after they
    # were evicted, while memory is short
    strained_pages_per_s: PerSecond = 500.0
    # ten times the rate of strained: 20 MB a second of pages
    choked_pages_per_s: PerSecond = 5000.0
    # memory counts as short below this share; paging with more available is ordinary housekeeping
    short_available: Share = 0.10
    # with less than this share available, and less than these bytes with what swap has free, there
    # is nothing left to give (of a large memory a small share is room enough)
    exhausted_available: Share = 0.03
    # a desktop program starts within about this much
    exhausted_bytes: Bytes = 300e6
    # a task that waits for memory while this share of it is available is held back by a limit
    plenty_available: Share = 0.30
