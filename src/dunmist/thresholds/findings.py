"""Limits from which a single fact is a finding."""

from dunmist.thresholds.units import (
    Bytes,
    BytesPerSecond,
    Cores,
    Figures,
    Hours,
    Number,
    PerSecond,
    Seconds,
    Share,
    Watts,
)


class FindingLimits(Figures, frozen=True):
    """Single findings."""

    # starts without an orderly end before them in this time; one may be a plug that was pulled
    unclean_within_s: Seconds = 604_800.0
    # ... two are a pattern
    unclean_least: int = 2
    # share of all logical CPUs
    cpu_hog: Share = 0.50
    # cores that something in the background may use all the time before it is worth naming
    steady_cores: Cores = 0.15
    # the lasting part is at least this share of the usual amount: it is steady
    steady_spread: Share = 0.5
    # a shell script that works in a loop reaches this; a desktop at rest starts a few a second
    spawn_forks_per_s: PerSecond = 40.0
    # and together they cost at least this much
    spawn_cores: Cores = 0.25
    # a program that no hour of the history has is reported from here on
    new_cores: Cores = 0.25
    # ... or where it holds as much memory as a small desktop program
    new_bytes: Bytes = 200e6
    # tasks of a bound program that wait for a CPU at any time, ...
    bound_waiting: Number = 0.5
    # ... while so much of the others idles
    bound_idle_cores: Cores = 0.5
    # half of the memory in one application
    memory_hog: Share = 0.50
    # files in memory, an unused reserve or the kernel hold a quarter of the memory; the pictures
    # that programs share with a display take less
    unowned_memory: Share = 0.25
    # a file system with a smaller part of the files in memory is not named
    unowned_part: Share = 0.10
    # the hypervisor took a tenth of the time that was wanted, which people notice
    stolen: Share = 0.10
    # ended processes that nobody waited for; a few are of no account
    defunct: Number = 20
    # a quarter of an hour: caches are cold and services still start
    recent_restart_s: Seconds = 900.0
    # 30 days: updates of the kernel wait for a restart, and small leaks add up
    long_uptime_s: Seconds = 2_592_000.0
    # share of one CPU's time
    interrupts: Share = 0.30
    # traffic between local programs takes soft interrupts alone; a device begins with hard ones
    interrupts_hard: Share = 0.05
    # of the kernel's own tasks
    kernel_cores: Cores = 0.50
    # threads of one process of which at least one on average waits for a CPU
    thread_swarm: Number = 100
    # so many threads are odd even if none waits
    threads_odd: Number = 1000
    # below this they sleep and cost nothing
    swarm_waiting: Number = 1.0
    # memory of a leak grows this fast, in this share of the steps, by at least so much
    leak_bytes_per_s: BytesPerSecond = 500_000.0
    # caches grow and shrink; a leak rises nearly always
    leak_rising: Share = 0.80
    # 8 MB: less is noise of the allocator
    leak_least_bytes: Bytes = 8_000_000.0
    # so much of it is of processes that lived through it: more processes are no leak
    leak_by_living: Share = 0.5
    # a program that has run for less than this may still be loading its data
    leak_age_s: Seconds = 120.0
    # below it adapters fall back to their slowest rates; -67 does for calls
    radio_weak_dbm: Number = -75.0
    # a good cable has none for hours; one a second costs throughput
    link_errors_per_s: PerSecond = 1.0
    # share of TCP segments, of at least so many
    retransmitted: Share = 0.03
    # 3 % of fewer segments would be a handful, which chance explains
    segments_least: Number = 300
    # a transfer slower than this is not one that somebody waits for, ...
    transfer_bytes_per_s: BytesPerSecond = 100_000.0
    # ... and one that is steady keeps this share of its usual rate
    transfer_spread: Share = 0.6
    # share of a quota's periods
    quota_limited: Share = 0.20
    # starts while it was sampled: a service that fails at its start comes back every few seconds
    restarts: Number = 3
    # a service that was restarted this often before, and again now, is not kept alive by that
    restarts_in_all: Number = 5
    # one more every two seconds reaches the usual limit of 1,024 within an hour
    descriptor_rise_per_s: PerSecond = 0.5
    # fewer are a few new windows or connections
    descriptor_grown_least: Number = 30
    # of one that has run for less than leak_age_s
    descriptor_grown_young: Number = 300
    # share of a limit from which it is near
    limit_near: Share = 0.80
    # a smaller limit of descriptors is one that a program gives itself for safety
    limit_least: Number = 64
    # share of all CPUs
    other_user: Share = 0.25
    # share of all CPUs: below this they do not slow the computer
    autostart_cores_share: Share = 0.40
    # two programs are named by themselves
    autostart_least: Number = 3
    # share of a memory module's rated speed, and of the listed memory
    below_rating: Share = 0.90
    # graphics and firmware take less of the memory than this
    module_unused: Share = 0.25
    # less than a meeting lasts
    battery_hours: Hours = 1.5
    # less than this a battery gives on mains while its charge is maintained
    charger_short_w: Watts = 2.0
    # makers exchange batteries below about 70 to 80 % of their design; this is clearly below
    battery_worn: Share = 0.65
    # share of the I/O limit of a control group from which it holds the group back: the kernel lets
    # requests through in slices of time, so that a small limit is not used up
    io_limit_near: Share = 0.5
    # mean number of its tasks that waited for a disk
    blocked_share: Number = 0.30
    # 2 MB a second, which a person hears on a spinning disk
    paging_pages_per_s: PerSecond = 500.0
    # shorter names read alike too often by chance
    name_least: Number = 7
    # ticks from which on a process that always waits uninterruptibly is stuck
    stuck_ticks: Number = 5
    # a stuck process uses nothing; this is the error of the counters
    stuck_cores: Cores = 0.005


class StartLimits(Figures, frozen=True):
    """Longest normal time of each phase of the start.

    A long phase looks for something that is not there: a device, a disk, a key or a choice.
    """

    # firmware tests memory and looks for devices in 5 to 10 s
    firmware_s: Seconds = 20.0
    # menus usually wait 5 s, some 10 s
    loader_s: Seconds = 15.0
    # a kernel needs 2 to 5 s where all devices answer
    kernel_s: Seconds = 15.0
    # a passphrase is typed in this time
    initrd_s: Seconds = 30.0
    # on a spinning disk services take about this long
    services_s: Seconds = 40.0
    # of one unit that all later ones waited for
    unit_s: Seconds = 5.0
