"""Threads of the busiest processes: does one of them, or do several by turns, fill one processor?

Takes the readings of single threads, ``(row, run_ns, delay_ns)`` by process and thread; the row is
that of the tick, so the interval before it is ``row - 1``.
"""

from itertools import pairwise
from typing import NamedTuple

import numpy as np

from dunmist.series.rates import NS_PER_S, Floats

# a program whose second busiest thread runs this much can use more than one processor
PARALLEL_SHARE = 0.6
ONE_AND_A_BIT = 1.05
# threads that take turns: none has this share of what all use, more than one processor is seldom
# used, and their waiting for one adds up to less than this
TURN_MOST, SELDOM, LET_IN_MOST = 0.9, 0.1, 0.5

Readings = dict[tuple[int, int], list[tuple[int, int, int]]]


class ThreadUse(NamedTuple):
    """What one thread of a busy process used and waited for over the capture."""

    process: int
    tid: int
    name: str | None
    run_s: float
    delay_s: float


class ThreadShares(NamedTuple):
    """Of one process, shares of each interval, shape (intervals,).

    ``busiest`` and ``second`` are what the two busiest threads wanted: ran or waited to run;
    ``ran`` is what the busiest ran; ``waited`` what all waited together.
    """

    busiest: Floats
    ran: Floats
    second: Floats
    waited: Floats


class OneThread(NamedTuple):
    """Shares of each interval in which one ran, and in which it ran or waited to run."""

    ran: Floats
    wanted: Floats


def thread_shares(readings: Readings, interval_s: Floats) -> dict[int, ThreadShares]:
    """Return the shares of each process of which threads were read."""
    found: dict[int, ThreadShares] = {}
    for (identity, _), of_thread in readings.items():
        shares = found.setdefault(
            identity, ThreadShares(*(np.zeros(len(interval_s)) for _ in ThreadShares._fields))
        )
        for (_, run, delay), (row, run_now, delay_now) in pairwise(of_thread):
            each_ns = NS_PER_S * interval_s[row - 1]
            ran = max(0, run_now - run) / each_ns
            waited = max(0, delay_now - delay) / each_ns
            _add(shares, row - 1, min(1.0, ran), waited)
    return found


def _add(shares: ThreadShares, row: int, ran: float, waited: float) -> None:
    # a thread that waits for a processor wants it as much as one that has it
    wanted = min(1.0, ran + waited)
    shares.waited[row] += waited
    if wanted >= shares.busiest[row]:
        shares.second[row] = shares.busiest[row]
        shares.busiest[row], shares.ran[row] = wanted, ran
    else:
        shares.second[row] = max(shares.second[row], wanted)


def one_thread(cores: Floats, threads: ThreadShares | None) -> OneThread | None:
    """Return what a process of several threads does with one processor.

    None where it can use more than one. ``cores`` is what it used, shape (intervals,).
    """
    alone = np.minimum(cores, 1.0)
    if threads is None:
        # no thread could be read: several that together make just one processor are one
        return OneThread(alone, alone) if np.median(cores) <= ONE_AND_A_BIT else None
    if _take_turns(cores, threads):
        return OneThread(alone, np.minimum(cores + threads.waited, 1.0))
    if np.median(threads.second) < PARALLEL_SHARE:
        return OneThread(threads.ran, threads.busiest)
    return None


def _take_turns(cores: Floats, threads: ThreadShares) -> bool:
    """Whether threads pass one right to run around, as an interpreter's do.

    None is full, together they hardly ever use more than one processor, and they wait for one only
    as long as it takes to be let in.
    """
    at_most_one = np.quantile(cores, 1 - SELDOM) <= ONE_AND_A_BIT
    shared = np.median(threads.busiest) < TURN_MOST * np.median(cores)
    return bool(at_most_one and shared and np.median(threads.waited) <= LET_IN_MOST)


def thread_use(readings: Readings, names: dict[tuple[int, int], str]) -> list[ThreadUse]:
    """Return the use of each thread from its first reading to its last."""
    return [
        ThreadUse(
            identity,
            tid,
            names.get((identity, tid)),
            max(0, of_thread[-1][1] - of_thread[0][1]) / NS_PER_S,
            max(0, of_thread[-1][2] - of_thread[0][2]) / NS_PER_S,
        )
        for (identity, tid), of_thread in readings.items()
    ]
