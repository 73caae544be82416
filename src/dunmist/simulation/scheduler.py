"""How a model computer shares its processors among the threads that want them.

A fluid model of a fair scheduler: every thread gets what it wants up to one processor and up to its
weighted share of what is there; what it wanted and did not get is run-queue delay. Weights by nice
value are the kernel's (``sched_prio_to_weight`` in kernel/sched/core.c: a factor of 1.25 a step).
"""

from typing import NamedTuple

NICE_STEP = 1.25
# on a machine with twice as much wanted as it has, even a thread that gets all it wants waits for
# this part of its running time until it is let in
LATENCY = 0.3
ROUNDS = 24


class Want(NamedTuple):
    """What one thread wants of a processor in a step, from 0 to 1."""

    cores: float
    nice: int


class Share(NamedTuple):
    """What a thread got, and what of its want had to wait."""

    ran: float
    waited: float


def share_processors(wants: list[Want], processors: int) -> list[Share]:
    """Return each thread's share, in the order of the wants; the sum never exceeds the machine."""
    wanted = sum(want.cores for want in wants)
    if wanted <= processors:
        return [Share(want.cores, 0.0) for want in wants]
    weights = [NICE_STEP**-want.nice for want in wants]
    low, high = 0.0, 1.0 / min(weights)
    for _ in range(ROUNDS):
        level = (low + high) / 2
        given = sum(
            min(want.cores, level * weight) for want, weight in zip(wants, weights, strict=True)
        )
        low, high = (level, high) if given < processors else (low, level)
    latency = LATENCY * (wanted / processors - 1.0)
    shares = []
    for want, weight in zip(wants, weights, strict=True):
        ran = min(want.cores, low * weight)
        shares.append(Share(ran, max(want.cores - ran, latency * ran)))
    return shares


def place_on_processors(ran: list[float], processors: int, turn: int) -> list[list[float]]:
    """Return for each processor what it ran of each thread, as ``[thread, share, …]`` pairs summed.

    The result has one list a processor with one entry a thread. Threads move about: where they
    start changes with ``turn``.
    """
    placed = [[0.0] * len(ran) for _ in range(processors)]
    room = [1.0] * processors
    order = sorted(range(len(ran)), key=lambda thread: -ran[thread])
    for position, thread in enumerate(order):
        left = ran[thread]
        start = (position + turn) % processors
        candidates = sorted(
            range(processors), key=lambda number: (-room[number], (number - start) % processors)
        )
        for number in candidates:
            part = min(left, room[number])
            placed[number][thread] += part
            room[number] -= part
            left -= part
            if left <= 1e-12:
                break
    return placed
