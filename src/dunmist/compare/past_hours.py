"""Compare a capture with the usual figures of its computer, from the hours of its history.

The same ranges as of good captures: an hour stands for a capture. What starts, listens and is
installed is in no history; it only says which programs are new.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence

import numpy as np

from dunmist.compare.baseline import Odd, Unusual, ranges_of
from dunmist.compare.comparable import Hindrance, shortcoming
from dunmist.compare.figures import Examined, Figure, application_figures, resource_figures
from dunmist.history import ApplicationSum, Period, ResourceSum
from dunmist.series import Floats

# the figures of an application in the history
AMOUNTS: Mapping[str, Callable[[ApplicationSum, Period], float]] = {
    "cores": lambda each, hour: each.cpu_s / hour.sampled_s,
    "memory": lambda each, hour: each.memory_byte_s / each.memory_s if each.memory_s else 0.0,
    "disk": lambda each, hour: each.disk_bytes / hour.sampled_s,
    "network": lambda each, hour: each.network_bytes / hour.sampled_s,
}
# resources whose name in the history has that of the device
OF_A_DEVICE = ("disk", "link")


def unusual_against_hours(hours: Sequence[Period], now: Examined) -> Unusual:
    """Return the figures of a capture that differ from these hours."""
    reason = shortcoming(now)
    hindrance = Hindrance(reason, 1) if reason is not None else None
    if hindrance is None and len(hours) < now.limits.captures_least:
        hindrance = Hindrance("too-few")
    if hindrance is not None:
        return Unusual(hindrance, [], now, [], [], [], [], [], hours=len(hours))
    known = {name for hour in hours for name in hour.applications}
    new = [
        Odd("program", application.name)
        for application in now.series.applications
        if application.living
        and not (application.kernel or application.observer)
        and application.name not in known
        and float(application.cores.mean()) >= now.limits.least_cores
    ]
    ranges = ranges_of(_figures(hours, now), now.limits)
    return Unusual(None, [], now, [], ranges, new, [], [], hours=len(hours))


def _figures(hours: Sequence[Period], now: Examined) -> Iterator[tuple[Figure, list[float]]]:
    """Yield each figure of now that the history has, with its mean in each hour."""
    # against itself a capture has all its figures
    for figure in resource_figures(now, now):
        name = f"{figure.resource} {figure.name}" if figure.resource in OF_A_DEVICE else None
        sums = [hour.resources.get(name or str(figure.resource)) for hour in hours]
        means = [mean for each in sums if each and (mean := _mean(each, figure.what)) is not None]
        if len(means) >= now.limits.captures_least and len(figure.after):
            yield figure._replace(before=_array(means)), means
    for figure in application_figures(now, now):
        amount = AMOUNTS[figure.what]
        means = [
            amount(hour.applications.get(figure.name or "", ApplicationSum()), hour)
            for hour in hours
        ]
        against_usual = figure._replace(before=_array(means))
        if len(against_usual.after) and against_usual.is_seen:
            yield against_usual, means


def _mean(each: ResourceSum, what: str) -> float | None:
    if what == "used":
        return each.used_share_s / each.used_s if each.used_s else None
    return each.held_share_s / each.held_s if each.held_s else None


def _array(values: Sequence[float]) -> Floats:
    return np.asarray(values, dtype=np.float64)
