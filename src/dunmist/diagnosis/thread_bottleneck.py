"""Threads of the busiest processes: does one of them, or do several alternately, fill a CPU?"""

from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.examination import Examination
from dunmist.series import Process, Rate, Thread
from dunmist.thresholds.cpu import CoreLimits


class ThreadShares(NamedTuple):
    """Of one process, shares of each interval.

    ``busiest`` and ``second`` are what the two busiest threads wanted: ran or waited to run;
    ``ran`` is what the busiest ran; ``waited`` what all waited together. All are unknown where the
    threads that were read are not those that used what the process used.
    """

    busiest: Rate
    ran: Rate
    second: Rate
    waited: Rate


class OneThread(NamedTuple):
    """Shares of each interval in which one ran, and in which it ran or waited to run."""

    ran: Rate
    wanted: Rate


def find_one_threads(exam: Examination) -> dict[Process, OneThread]:
    """Return the use of the busiest thread, for each process limited to one processor."""
    least_s = exam.limits.core.candidate_cores * exam.series.line.measured_s / 2
    bound = {}
    for process in exam.series.processes.values():
        if process.cpu_s >= least_s:
            bound_threads = find_bound_threads(process, exam.limits.core)
            if bound_threads is not None:
                bound[process] = bound_threads
    return bound


def find_bound_threads(process: Process, limits: CoreLimits) -> OneThread | None:
    """Return the use of one processor by a process, None if it can use more than one."""
    cores = process.cores.known_or(0.0)
    if process.last is not None and process.last.threads == 1:
        waited = process.waiting.known_or(0.0)
        return OneThread(cores.between(0.0, 1.0), (cores + waited).between(0.0, 1.0))
    return of_several(cores, thread_shares(process.threads, cores, limits), limits)


def thread_shares(threads: list[Thread], cores: Rate, limits: CoreLimits) -> ThreadShares | None:
    """Return the shares of watched threads of a process that used ``cores``, None without any."""
    if not threads:
        return None
    line = cores.line
    ran = np.array([thread.cores.known_or(0.0).values for thread in threads])
    waited = np.array([thread.waiting.known_or(0.0).values for thread in threads])
    # a thread that waits for a CPU wants it as much as one that has it
    # both clocks are read one after the other, and may add up to a little more than 1
    wanted = np.minimum(ran + waited, 1.0)
    is_covered = (ran.sum(axis=0) >= limits.thread_coverage_min * cores.values) | (
        cores.values < limits.idle_cores
    )
    covered = Rate(line, is_covered.astype(float))
    # the scheduler does not care which thread it is: at each moment the busiest counts
    order = np.argsort(wanted, axis=0)
    busiest = np.take_along_axis(wanted, order[-1:], axis=0)[0]
    second = np.take_along_axis(wanted, order[-2:-1], axis=0)
    return ThreadShares(
        busiest=Rate(line, busiest).where(covered),
        ran=Rate(line, np.take_along_axis(ran, order[-1:], axis=0)[0]).where(covered),
        second=(Rate(line, second[0]) if len(second) else Rate.nothing(line)).where(covered),
        waited=Rate(line, waited.sum(axis=0)).where(covered),
    )


def of_several(cores: Rate, threads: ThreadShares | None, limits: CoreLimits) -> OneThread | None:
    """Return the use of one processor by several threads, None if they can use more than one.

    ``cores`` is what the process used.
    """
    alone = cores.between(0.0, 1.0)
    if threads is None or not threads.ran.is_known:
        # no thread could be read: several that together make just one processor are one
        return OneThread(alone, alone) if _median(cores) <= limits.single_core_max else None
    if _take_turns(cores, threads, limits):
        return OneThread(alone, (cores + threads.waited).between(0.0, 1.0))
    if _median(threads.second) < limits.parallel_share:
        return OneThread(threads.ran, threads.busiest)
    return None


def _take_turns(cores: Rate, threads: ThreadShares, limits: CoreLimits) -> bool:
    """Whether threads pass one right to run around, as an interpreter's do.

    None is full, together they hardly ever use more than one processor, and they wait for one only
    as long as it takes to be let in.
    """
    at_most_one = np.quantile(cores.values, 1 - limits.seldom) <= limits.single_core_max
    shared = _median(threads.busiest) < limits.busiest_share_max * _median(cores)
    return bool(at_most_one and shared and _median(threads.waited) <= limits.handoff_wait_max)


def _median(rate: Rate) -> float:
    return rate.median() or 0.0
