"""Limits of steps, and figures too small for a sentence."""

from dunmist.thresholds.units import Bytes, Figures, Number, Percent, PerSecond, Share


class AdviceLimits(Figures, frozen=True):
    """Limits of steps, and figures too small for a sentence."""

    # from this share of the time on, tasks that wait are not called none
    waits_least: Share = 0.1
    # one process of several that has this share of what they take is aimed at first
    part_share: Share = 0.8
    # a limit takes about this share of what a program uses now, and leaves at least so much of one
    # CPU that it gets on
    limit_share: Share = 0.5
    # percent of one CPU: below it even a window does not open
    limit_least_percent: Percent = 20
    # "since last week" is what people say
    changed_days: Number = 14
    # pages a second that nobody notices, and a share of swap that is as good as none
    quiet_pages_per_s: PerSecond = 1.0
    # 1 % of swap in use slows nothing
    swap_used_least: Share = 0.01


class CodeLimits(Figures, frozen=True):
    """Limits from which samples of code describe a program's work."""

    # of so many samples a share of 30 % is known to 8 % either way (one standard error)
    samples_least: Number = 40
    # a kind of work with a smaller share is left out
    share_least: Share = 0.08
    # a kind with as much decides which steps fit
    main_least: Share = 0.25
    # a line on the screen holds about so many
    shown_most: Number = 3
    # a program that moved less in a capture moves along no file that matters
    file_bytes_least: Bytes = 8_000_000
    # of what it reads or writes; files with less are many
    file_share_least: Share = 0.05
    # two lines say where most of it goes
    files_shown: Number = 2
    # so many small files are reported by their folder
    folder_files_least: Number = 5
    # of its tasks, on average: less is the usual wait of a program that reads a file
    waits_least: Number = 0.1
    # a program that holds less of the memory is not why it is short
    memory_share_least: Share = 0.1
    # a hundredth more in half a minute is no accident
    memory_grown_least: Share = 0.01
    # less than this moved over the network in a capture is the noise of any program
    peer_bytes_least: Bytes = 1_000_000
    # bytes that arrived and were not read for most of the time: more than a segment or two
    unread_bytes_least: Bytes = 16_384
    # with something to send for less of the time, nothing else limits a connection
    busy_least: Share = 0.5
    # limited by one side for this part of the time in which there was something to send
    limited_least: Share = 0.5
