"""Find the worst window of a long capture: where resources limited the work most.

What lasts is asked of a whole capture, so that seven bad minutes of an hour are drowned. This
module finds runs of intervals in which any resource limited the work. Runs with a short rest
between them count as one. The run that is longest and worst together is judged by itself.
"""

from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.records import Diagnosis
from dunmist.diagnosis.resources import RESOURCE_BY_WORD
from dunmist.diagnosis.words import LEVELS
from dunmist.series import Ints, Part, Series

STRAINED = LEVELS.index("strained")


class Run(NamedTuple):
    """Intervals from the one to before the other, and how bad they were."""

    first: int
    end: int
    weight: float


def worst_window(series: Series, diagnosis: Diagnosis) -> Part | None:
    """Return the window to judge by itself, in seconds after the first tick; None without any."""
    table = diagnosis.limits.stretch
    if diagnosis.limiting is not None or series.duration_s < table.long_s:
        return None
    runs = _runs(_badness(diagnosis, series.line.intervals), series, table.bridge_s)
    worst = max(runs, key=lambda run: run.weight, default=None)
    if worst is None:
        return None
    at_s = series.line.at_s
    # the tick that ends an interval is in it
    since_s, until_s = float(at_s[worst.first]), float(at_s[worst.end])
    return Part(since_s, until_s) if until_s - since_s >= table.least_s else None


def _badness(diagnosis: Diagnosis, intervals: int) -> Ints:
    """Return the level of the worst resource in each interval."""
    worst = np.zeros(intervals, dtype=np.int64)
    for state in diagnosis.resources:
        if state.trace is not None and RESOURCE_BY_WORD[state.resource].cause_rank is not None:
            worst = np.maximum(worst, state.trace.levels - STRAINED + 1)
    return worst


def _runs(badness: Ints, series: Series, bridge_s: float) -> list[Run]:
    interval_s, runs = series.line.interval_s, list[Run]()
    at_s = series.line.at_s
    for index in np.flatnonzero(badness > 0):
        weight = float(badness[index] * interval_s[index])
        last = runs[-1] if runs else None
        if last is not None and at_s[index] - at_s[last.end] <= bridge_s:
            runs[-1] = Run(last.first, int(index) + 1, last.weight + weight)
        else:
            runs.append(Run(int(index), int(index) + 1, weight))
    return runs
