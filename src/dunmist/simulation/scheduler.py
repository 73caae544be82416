"""Model how a computer shares its CPUs among the threads that want them.

A fluid model of a fair scheduler. Every thread gets what it wants, up to one CPU and up to its
weighted share of what is there. What it wanted and did not get is run-queue delay. Weights by nice
value are the kernel's (``sched_prio_to_weight`` in kernel/sched/core.c: a factor of 1.25 a step).
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int_]
# the weight of neighbouring nice values differs by this factor, sched(7)
NICE_STEP = 1.25
# on a machine with twice as much wanted as it has, even a thread that gets all it wants waits for
# this part of its running time until it is let in
LATENCY = 0.3
ROUNDS = 30
# threads that ran less than this are spread evenly instead of being placed one by one
PLACED_LEAST = 0.05


class Shares(NamedTuple):
    """CPU time that each thread got, and the part for which it had to wait."""

    ran: Floats
    waited: Floats


def share_processors(wanted: Floats, nice: Floats, processors: float) -> Shares:
    """Return each thread's share, in the order of the wants; the sum never exceeds the machine."""
    total = float(wanted.sum())
    if total <= processors:
        return Shares(wanted.copy(), np.zeros_like(wanted))
    weights = NICE_STEP**-nice
    low, high = 0.0, 1.0 / float(weights.min())
    for _ in range(ROUNDS):
        level = (low + high) / 2
        given = float(np.minimum(wanted, level * weights).sum())
        low, high = (level, high) if given < processors else (low, level)
    latency = LATENCY * np.maximum(0.0, _crowd(wanted, weights) / processors - 1.0)
    ran = np.minimum(wanted, low * weights)
    return Shares(ran, np.maximum(wanted - ran, latency * ran))


def _crowd(wanted: Floats, weights: Floats) -> Floats:
    """Return the CPUs wanted as each thread sees it: lighter ones are hardly in its way."""
    of_weight = {
        weight: float((wanted * np.minimum(1.0, weights / weight)).sum())
        for weight in np.unique(weights)
    }
    return np.asarray([of_weight[weight] for weight in weights])


def place_on_processors(
    ran: Floats, room: Floats, turn: int, cpus_most: Ints | None = None
) -> Floats:
    """Return the time of each thread on each CPU, shape (processors, threads).

    ``room`` is what each CPU has to give. Threads move about: where they start changes with
    ``turn``. A thread may run on the first ``cpus_most`` only; 0 is all.
    """
    processors = len(room)
    placed = np.zeros((processors, len(ran)))
    room = room.copy()
    large = np.flatnonzero(ran >= PLACED_LEAST)
    for position, thread in enumerate(large[np.argsort(-ran[large])]):
        left = float(ran[thread])
        order = np.lexsort(((np.arange(processors) - position - turn) % processors, -room))
        most = int(cpus_most[thread]) if cpus_most is not None else 0
        for number in order[order < most] if most else order:
            part = min(left, float(room[number]))
            placed[number, thread] += part
            room[number] -= part
            left -= part
            if left <= 1e-12:
                break
    small = ran < PLACED_LEAST
    if room.sum() > 0:
        placed[:, small] = np.outer(room / room.sum(), ran[small])
    return placed
