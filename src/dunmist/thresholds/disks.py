"""Limits of disks, of file systems and of the health of drives."""

from typing import Literal

from dunmist.thresholds.units import Bytes, BytesPerSecond, Figures, Number, Seconds, Share

DiskKind = Literal["spinning", "solid", "card", "network"]


class DiskLimits(Figures, frozen=True):
    """Physical disks."""

    # worth a word: more than half of its time is gone, and queues begin to grow
    busy: Share = 0.60
    # a full disk shows a little idle time, because requests are counted when they begin and end;
    # from waited_used up to here, the fuller it is the less waiting is enough
    strained_used: Share = 0.93
    # choked: no idle time is left but that of the counting
    choked_used: Share = 0.97
    # synchronous writers leave a disk idle for moments although everybody waits for it: with a long
    # queue less will do
    crowded_queue: Number = 4.0
    # with that queue, this busy share is enough
    crowded_used: Share = 0.75
    # a task may wait for its own requests most of the time although each is fast: no counter calls
    # a drive full that serves many requests at once
    waited_used: Share = 0.60
    # ... and tasks wait for half of the time
    waited_held_up: Share = 0.50
    # share of time in which some task waited for a disk
    strained_held_up: Share = 0.25
    # choked: tasks wait for it more often than not
    choked_held_up: Share = 0.60
    # to the time of a slow small request comes that for the bytes of a larger one, at a fifth of
    # the rate that a disk of its kind has
    slow_times: Number = 5.0
    # waiting tasks are counted over at least this long: five samples, one a second
    seen_window_s: Seconds = 5.0


class DiskKindLimits(Figures, frozen=True):
    """Time that a disk of one kind needs for a request.

    ``access_s`` is the time to reach the place of a request, ``bytes_per_s`` the rate of what is
    there. A small request that by itself takes longer than ``slow_s`` is one of a disk that repeats
    its work. A larger one may take longer in proportion.
    """

    access_s: Seconds
    bytes_per_s: BytesPerSecond
    slow_s: Seconds


SPINNING = DiskKindLimits(
    # the heads have to move, and the platter has to turn
    access_s=0.008,
    # the middle of a platter; the rim is faster
    bytes_per_s=120e6,
    # seven accesses: a request alone in the queue needs one
    slow_s=0.06,
)


SOLID = DiskKindLimits(
    # no head has to move
    access_s=0.0001,
    # between drives at the ATA and at the NVMe interface
    bytes_per_s=1e9,
    # 200 accesses: a request alone in the queue, without a full cache, needs one
    slow_s=0.02,
)


CARD = DiskKindLimits(
    # memory cards and sticks: 500 writes a second are the least of class A1 of the SD Physical
    # Layer Specification, which lets a sound card be busy with one write for 0.25 s
    access_s=0.002,
    # twice what class 10 of the SD Physical Layer Specification promises
    bytes_per_s=20e6,
    # the specification's own limit for one write
    slow_s=0.25,
)


NETWORK = DiskKindLimits(
    # the disk of another computer, and the way there and back
    access_s=0.002,
    # a line of 1 Gbit/s less its headers
    bytes_per_s=100e6,
    # a far server answers within this, so a longer time is the server's or the line's fault
    slow_s=0.1,
)


class StorageLimits(Figures, frozen=True):
    """Room and inodes of file systems."""

    # used share of room or inodes: worth a word, in the way of those who save, and as good as full
    full: Share = 0.95
    # file systems slow down when little is free
    strained: Share = 0.98
    # as good as full: the next save may fail
    choked: Share = 0.995
    # it is full before anybody looks again
    filling_within_s: Seconds = 3600.0
    # in less, one write of a large file looks like growth
    filling_least_s: Seconds = 8.0
    # a cache and a journal grow by less in half a minute
    filling_least_bytes: Bytes = 100e6


class DriveLimits(Figures, frozen=True):
    """Limits of what a drive reports of its own health.

    A sector that cannot be read is lost data. Some that were replaced by spare ones are ordinary in
    old age. Errors of the cable are counted over the whole life of the drive.
    """

    # one unreadable sector is lost data
    lost_sectors: int = 1
    # the maker's own estimate of the drive's life is over (NVMe specification, Percentage Used)
    used_percent: int = 100
    # a program that moves this share of what a disk of its kind can move heats it: at a fifth a
    # drive without a heat spreader comes near its limit within minutes
    heating_share: Share = 0.2
    # a few are ordinary in old age; this many go with more to come
    reallocated: int = 50
    # each moved plug adds a few; this many mean a bad cable
    interface_errors: int = 200
