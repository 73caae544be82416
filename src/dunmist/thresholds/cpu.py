"""Limits of CPU time, for all logical CPUs and for one."""

from dunmist.thresholds.units import Cores, Figures, Number, Seconds, Share


class Lasting(Figures, frozen=True):
    """Limits of a lasting state."""

    # a state counts when it held for this share of the capture: a program that spikes while it
    # starts, or one odd tick, holds for less
    share: Share = 0.5


class ProcessorLimits(Figures, frozen=True):
    """All logical CPUs together."""

    # busy share of all logical CPUs from which they are worth a word
    busy: Share = 0.5
    # strained means: the CPUs are this full and, at the same time, ...
    strained_used: Share = 0.85
    # ... some task waits for one during this share of the time, and ...
    strained_pressure: Share = 0.25
    # ... this share of the wanted CPU time was spent waiting. One waiting task on sixteen CPUs
    # keeps the stall share at 1 and slows the work down by hardly anything
    strained_held_up: Share = 0.10
    # choked: hardly any idle time is left, ...
    choked_used: Share = 0.95
    # ... tasks wait for most of the time, ...
    choked_pressure: Share = 0.60
    # ... and get little more than half of the CPU time that they want
    choked_held_up: Share = 0.40
    # time at a raised nice value gives way to everything else, so it holds up nearly nothing
    low_priority_weight: Share = 0.1
    # an application that spends half of its time at a raised nice value counts as one that gives
    # way
    low_priority_share: Share = 0.5
    # an application that wants less than this is none that another could give way to
    competes_cores: Cores = 0.05
    # a control group of this weight, of which 100 is usual, gives way to all others
    light_weight: Number = 20
    # a kind of CPU time with less than this is not worth a line
    split_least: Share = 0.02


class CoreLimits(Figures, frozen=True):
    """A single logical CPU."""

    # a thread that runs or waits to run for this share of an interval is limited by its CPU; a
    # thread that sleeps for a twentieth of it is not
    full: Share = 0.96
    # it is bound by one CPU when it does so in this share of the intervals
    bound_share: Share = 0.80
    # programs that run one after the other fill a CPU from here on: it rests for a moment between
    # two of them
    in_turn_full: Share = 0.90
    # it is judged over windows of at least this length
    least_s: Seconds = 1.0
    # a task that runs for less than this share waits too long for others: more CPUs would help it
    ran_least: Share = 0.85
    # if CPUs are free, no more waiting than this comes from moving to one
    waited_most: Share = 0.15
    # processes of one application that are full at the same time, from which on it is a parallel
    # one
    many_least: Number = 3
    # ... and at least this share of the CPUs: two full processes on eight are two single programs
    many_share: Share = 0.5
    # worth a word: a thread this busy will be the limit when its work grows by a third
    busy: Share = 0.70
    # from this on the report says how much of the busiest CPU the sampling itself took
    own_least: Share = 0.05
    # a process that uses less than this on average cannot fill a CPU for most of the time
    candidate_cores: Cores = 0.3
    # of an interval that was stolen nearly whole nothing can be said
    left_least: Share = 0.25
    # an interval in which the threads that were read ran for less than this share of what their
    # process used says nothing of its threads, unless it used hardly anything: the busiest ones
    # were not read
    thread_coverage_min: Share = 0.5
    # an interval in which the process used less needs no thread counters: no thread of it was full
    idle_cores: Cores = 0.1
    # a program whose second busiest thread wants this much can use more than one CPU
    parallel_share: Share = 0.6
    # threads that take turns, as an interpreter's do: together they use more than this many CPUs in
    # only the share `seldom` of the intervals, ...
    single_core_max: Cores = 1.05
    # one interval in ten may be above it: counters of threads are read one after another
    seldom: Share = 0.1
    # ... none has more than this share of what all use, ...
    busiest_share_max: Share = 0.9
    # ... and they wait for each other less than this in total
    handoff_wait_max: Share = 0.5
