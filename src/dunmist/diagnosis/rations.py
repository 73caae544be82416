"""Which applications have a quota of processor time that runs out (cgroups(7), cpu.max).

The kernel counts them as waiting for a processor, in stall accounting and in run-queue delay, also
while processors are free: such waiting says nothing of the processors.
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dunmist.diagnosis.lasting import lasting
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.series import Series


class Ration(NamedTuple):
    """A control group, the processors it may use, and how often that was not enough."""

    path: str
    quota_cores: float
    limited: float


def find_rations(series: Series, limits: Thresholds) -> list[Ration]:
    """Return the control groups whose quota ran out in much of the time."""
    share, least = limits["lasting"]["share"], limits["findings"]["quota_limited"]
    rations = [
        Ration(one.path, one.quota_cores, lasting(one.limited, series.machine.interval_s, share))
        for one in series.devices.groups
        if one.quota_cores is not None
    ]
    return [one for one in rations if one.limited >= least]


def rationed_applications(series: Series, limits: Thresholds) -> NDArray[np.bool_]:
    """Return which applications are in such a group, shape (apps,)."""
    grouping = series.processes.grouping
    paths = [one.path for one in find_rations(series, limits)]

    def is_rationed(members: list[int]) -> bool:
        groups = [grouping.facts(member).cgroup or "" for member in members]
        return any(f"{group}/".startswith(f"{path}/") for group in groups for path in paths)

    return np.array(
        [bool(paths) and is_rationed(one.members) for one in grouping.applications], dtype=bool
    )
