"""Limits of the ranking: roles, and what counts as use."""

from dunmist.thresholds.units import Bytes, BytesPerSecond, Cores, Figures, Number, Seconds, Share


class CulpritLimits(Figures, frozen=True):
    """Limits of the ranking and its roles."""

    # with less of it attributed than this nobody can be named
    attributed_least: Share = 0.10
    # an application that explains less than this of the strain is not ranked
    least_score: Share = 0.10
    # and where nobody explains this much, no single program is the cause
    least_first: Share = 0.22
    # an application that explains at least this share of what the first one explains is its
    # partner: it makes little difference which of them is stopped first
    partner_share: Share = 0.6
    # together they are the cause where they explain at least half, however little each does
    partners_least: Share = 0.5
    # a sentence that people grasp names no more of them
    partners_most: Number = 4
    # a part of the clock, the CPU or the disk that something outside of all programs takes
    outside_share: Share = 0.20
    # a list that a technician reads; the tables have all applications
    most: Number = 5
    # a program waits for others rather than making them wait when it waits longer than it runs, ...
    victim_waiting: Share = 0.20
    # ... and uses less than this share of the busy time
    victim_score: Share = 0.10
    # ... or waits for this share of what it wants, and takes less than this share of an equal part
    victim_waited: Share = 0.15
    # a task that takes more than half of an equal part drives the load as well
    victim_part: Share = 0.5
    # ... or, where disk or memory limits, when so many of its tasks wait for a disk on average
    victim_io_waiting: Number = 0.30
    # smaller amounts are no line of evidence: bytes a second, waiting tasks, and cores
    moved_least_bytes_per_s: BytesPerSecond = 10_000.0
    # a connection over which a server sent less in all asked it for hardly anything
    answered_least_bytes: Bytes = 10_000.0
    # a process that uses less answers nobody over its Unix sockets, whose bytes are not counted
    serving_least_cores: Cores = 0.05
    # a program that wrote less of the last lines of a log does not keep its service busy
    written_least: Share = 0.2
    # a program that has printed less keeps no terminal busy: some hundred lines a second
    printed_least_bytes_per_s: BytesPerSecond = 20_000.0
    # of the samples of a program that waits, so many are about files that another program serves
    answered_waits_least: Share = 0.25
    # one task for a twentieth of the time
    waiting_least: Number = 0.05
    # less is shown as 0.00
    cores_least: Cores = 0.005
    # a twentieth of one CPU
    short_lived_least: Cores = 0.05
    # share of an application's CPU time from which the programs that it starts are named with it
    started_share: Share = 0.5
    # less of a CPU at real-time priority keeps no task waiting: a sound server, a watchdog
    real_time_cores: Cores = 0.1


class CoverageLimits(Figures, frozen=True):
    """From what on coverage is known."""

    # below this there is nothing to attribute
    cpu_least_s: Seconds = 0.05
    # 1 MiB: less is announcements and name lookups, which no TCP socket explains
    traffic_least_bytes: Bytes = 1_048_576.0


class SignLimits(Figures, frozen=True):
    """Traits by which the kind of work of a program is known."""

    # a service or program that started within this time after the start of the computer, or the
    # login, belongs to it
    boot_s: Seconds = 180.0
    # bytes a second over the capture from which on an application uses a disk or sends all the time
    uses_disk_bytes_per_s: BytesPerSecond = 500_000.0
    # 400 kbit/s: more than greetings and synchronisation of clocks
    sends_bytes_per_s: BytesPerSecond = 50_000.0
    # share of its use by children that were never seen, of at least so many cores
    short_lived_share: Share = 0.3
    # children that use less say nothing of what a program does
    matters_cores: Cores = 0.05
    # its CPU time at a raised nice value
    low_priority_share: Share = 0.5
