"""Try it now: what rose since a mark, and whether it came back."""

from collections.abc import Sequence
from typing import NamedTuple

from dunmist.harmless import harmless
from dunmist.recorder import LiveApplication, Now

MIB = float(1 << 20)
# ticks before the mark, and of now, whose mean counts
BEFORE, NEWEST = 5, 3
# a smaller rise is no result
CORES_LEAST, MEMORY_LEAST_BYTES, BYTES_PER_S_LEAST = 0.1, 20 * MIB, MIB
# back again: no more than this part of the rise is left
BACK = 0.25
SHOWN_MOST = 8


class Taken(NamedTuple):
    """Use of an application at the mark."""

    cores: float
    memory_bytes: int
    moved_bytes_per_s: float


class Trial(NamedTuple):
    """A mark, and what everybody took then, by name."""

    ticks: int
    at_s: float
    taken: dict[str, Taken]


def begin_trial(now: Now, ticks: int, at_s: float) -> Trial:
    """Return a mark of the present state."""
    return Trial(ticks, at_s, {app.name: _taken(app) for app in now.applications.values()})


def _taken(app: LiveApplication) -> Taken:
    cores = _mean(list(app.history)[-BEFORE:])
    return Taken(cores, app.memory_bytes, app.disk_bytes_per_s + app.network_bytes_per_s)


def trial_lines(trial: Trial, now: Now, ticks: int, at_s: float) -> list[str]:
    """Return the rises since the mark, the greatest first, a line each."""
    span_s, passed = at_s - trial.at_s, max(1, ticks - trial.ticks)
    rises = []
    for app in now.applications.values():
        before = trial.taken.get(app.name)
        since = list(app.history)[-passed:]
        cores = max(since, default=0.0) - (before.cores if before else 0.0)
        memory = app.memory_bytes - (before.memory_bytes if before else 0)
        moved = app.disk_bytes_per_s + app.network_bytes_per_s
        moved -= before.moved_bytes_per_s if before else 0.0
        parts = []
        if cores >= CORES_LEAST:
            parts.append(f"{cores:+.2f} cores at most, {_settled(since, before, span_s)}")
        if memory >= MEMORY_LEAST_BYTES:
            parts.append(f"{memory / MIB:+,.0f} MiB of memory")
        if moved >= BYTES_PER_S_LEAST:
            parts.append(f"{moved / MIB:+.1f} MiB/s")
        if parts:
            new = "" if before else " (new)"
            rises.append((cores, f"{harmless(app.name)}{new}: {'; '.join(parts)}"))
    rises.sort(key=lambda rise: -rise[0])
    return [text for _, text in rises[:SHOWN_MOST]] or ["nothing rose since the mark"]


def _settled(since: Sequence[float], before: Taken | None, span_s: float) -> str:
    """Return whether the rise is over, and when it was."""
    base = before.cores if before else 0.0
    rise = max(since) - base
    high = [index for index, cores in enumerate(since) if cores - base > BACK * rise]
    if _mean(since[-NEWEST:]) - base > BACK * rise:
        return f"still {_mean(since[-NEWEST:]):.2f} now"
    return f"settled after {span_s * (high[-1] + 1) / len(since):.0f} s"


def _mean(values: Sequence[float]) -> float:
    return sum(values) / len(values) if values else 0.0
