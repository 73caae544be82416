"""Resource ``gpu``: is a graphics card full?"""

import numpy as np

from dunmist.diagnosis.lasting import lasting, lasting_level, trace_of
from dunmist.diagnosis.records import ResourceState, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import Level
from dunmist.series import Series
from dunmist.series.rates import Floats


def judge_graphics(series: Series, limits: Thresholds) -> list[ResourceState]:
    """Return the state of each card that publishes how busy it is."""
    table, interval_s = limits["gpu"], series.machine.interval_s
    share = limits["lasting"]["share"]
    states = []
    for card in series.devices.graphics:
        busy = card.busy[1:]
        if np.isnan(busy).all():
            continue
        met: dict[Level, Floats] = {
            "busy": (busy >= table["busy"]).astype(float),
            "strained": (busy >= table["strained_used"]).astype(float),
            "choked": (busy >= table["choked_used"]).astype(float),
        }
        level = lasting_level(met, interval_s, share)
        used = lasting(busy, interval_s, share)
        sign = Sign("gpu-busy", used, "share", "/sys/class/drm", name=card.name)
        trace = trace_of(busy, None, met)
        states.append(ResourceState("gpu", level, used, None, [sign], name=card.name, trace=trace))
    return states
