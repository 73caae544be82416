"""Decide if more sampling would hardly change the verdict: a sequential test of every level.

Each interval of a resource meets the condition of a level or does not; a level lasts where at least
half of them do. Intervals are draws of a share that is either at most ``share_low`` or at least
``share_high``. The ratio of their likelihoods is added up until it passes the bound that ``error``
sets, either way (sequential probability ratio test: Wald 1945, Annals of Mathematical Statistics
16:117). A share between the two is never decided: sampling goes on.
"""

import math

import numpy as np

from dunmist.diagnosis.records import Diagnosis, Trace
from dunmist.diagnosis.words import LEVELS
from dunmist.thresholds.verdicts import SureLimits


def is_decided(diagnosis: Diagnosis) -> bool:
    """Return whether the level of every resource that is followed over time is decided."""
    limits = diagnosis.limits.sure
    traces = [state.trace for state in diagnosis.resources if state.trace is not None]
    return all(_decided(trace, limits) for trace in traces)


def _decided(trace: Trace, limits: SureLimits) -> bool:
    known = ~np.isnan(trace.used.values)
    levels = trace.levels[known]
    return all(
        _is_beyond(int((levels >= level).sum()), len(levels), limits)
        for level in range(1, len(LEVELS))
    )


def _is_beyond(met: int, count: int, limits: SureLimits) -> bool:
    """Return whether so many of so many intervals decide about one level."""
    if not count:
        return True  # nothing is published that could tell
    low, high, error = limits.share_low, limits.share_high, limits.error
    ratio = met * math.log(high / low) + (count - met) * math.log((1 - high) / (1 - low))
    return abs(ratio) >= math.log((1 - error) / error)
