"""Resource ``link``: is the line full?"""

import numpy as np

from dunmist.diagnosis.lasting import lasting, lasting_level, trace_of
from dunmist.diagnosis.records import ResourceState, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import Level
from dunmist.series import Series
from dunmist.series.links import LinkSeries
from dunmist.series.rates import Floats


def judge_links(series: Series, limits: Thresholds) -> list[ResourceState]:
    """Return the state of each link that leads elsewhere and whose speed is known."""
    return [
        _judge(series, link, limits)
        for link in series.devices.links
        if link.used is not None and not link.is_loopback
    ]


def _judge(series: Series, link: LinkSeries, limits: Thresholds) -> ResourceState:
    table, interval_s = limits["link"], series.machine.interval_s
    share = limits["lasting"]["share"]
    used = np.zeros(len(interval_s)) if link.used is None else link.used
    met: dict[Level, Floats] = {
        "busy": (used >= table["busy"]).astype(float),
        "strained": (used >= table["strained_used"]).astype(float),
        "choked": (used >= table["choked_used"]).astype(float),
    }
    level = lasting_level(met, interval_s, share)
    speed = link.about.speed_bits_per_s if link.about else None
    signs = [
        Sign("link-used", lasting(used, interval_s, share), "share", "/proc/net/dev",
             of=float(speed or 0) / 1e6, name=link.name),
        Sign("link-received", lasting(link.received_bytes_per_s, interval_s, share), "bytes/s",
             "/proc/net/dev"),
        Sign("link-sent", lasting(link.sent_bytes_per_s, interval_s, share), "bytes/s",
             "/proc/net/dev"),
    ]  # fmt: skip
    errors = int(np.nansum(link.errors))
    # the kernel does not say how long work waits for a line
    return ResourceState(
        "link", level, min(1.0, signs[0].value), None, signs, name=link.name, errors=errors,
        trace=trace_of(used, None, met),
    )  # fmt: skip
