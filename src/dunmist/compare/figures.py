"""Which figures of two captures are held against each other, and what difference matters.

A figure is compared where both captures have it. ``least`` is the smallest difference that anybody
would notice, in the figure's unit: below it a difference may be sure and still say nothing.
"""

from collections.abc import Iterator
from typing import Literal, NamedTuple

import numpy as np

from dunmist.diagnosis import Diagnosis, ResourceState, ResourceWord
from dunmist.series import Application, Floats, Rate, Series

Driven = Literal["temperature", "clock"]
Taken = Literal["cores", "memory", "disk", "network"]
FigureUnit = Literal["share", "celsius", "hz", "cores", "bytes", "bytes/s"]
# five points of a resource's whole are seen on any picture of it
LEAST_SHARE = 0.05
# sensors are read to one degree, and a room changes by some
LEAST_KELVIN = 3.0
# of the greatest clock; less is the governor's doing
LEAST_CLOCK_SHARE = 0.05
# of an application: what it takes to be seen at all, and a share of the whole computer
LEAST_CORES, LEAST_OF_PROCESSORS = 0.1, 0.02
LEAST_BYTES_SHARE, LEAST_BYTES_PER_S = 0.02, 500_000.0
# what warms or slows a processor is compared at equal use only
OVERLAP_LEAST = 0.25


class Examined(NamedTuple):
    """A capture that is compared."""

    series: Series
    diagnosis: Diagnosis


class Figure(NamedTuple):
    """One figure: ``what`` it is of which resource or application, in both captures.

    ``before`` and ``after`` are its known values, one an interval.
    """

    what: Literal["used", "held-up"] | Driven | Taken
    unit: FigureUnit
    before: Floats
    after: Floats
    least: float
    resource: ResourceWord | None = None
    name: str | None = None


def resource_figures(before: Examined, after: Examined) -> Iterator[Figure]:
    """Yield how full each resource is and how much work it holds up."""
    known = {(state.resource, state.name): state for state in before.diagnosis.resources}
    for state in after.diagnosis.resources:
        other = known.get((state.resource, _name_in(known, state)))
        if other is None or other.trace is None or state.trace is None:
            continue
        used = other.trace.used.known(), state.trace.used.known()
        if state.resource != "heat":  # which has degrees
            yield Figure("used", "share", *used, LEAST_SHARE, state.resource, state.name)
        if other.trace.pressure is not None and state.trace.pressure is not None:
            held_up = other.trace.pressure.known(), state.trace.pressure.known()
            yield Figure("held-up", "share", *held_up, LEAST_SHARE, state.resource, state.name)


def _name_in(
    known: dict[tuple[ResourceWord, str | None], ResourceState], state: ResourceState
) -> str | None:
    """Return the name under which the other capture has the resource."""
    # the fullest single processor is another one at every look
    if state.resource == "core":
        return next((name for word, name in known if word == "core"), None)
    return state.name


def cooling_figures(before: Examined, after: Examined) -> Iterator[Figure]:
    """Yield temperature and clock at equal use of the processors; nothing where none is equal."""
    most_hz = after.series.machine.most_clock_hz or 0.0
    cooling: tuple[tuple[Driven, FigureUnit, float], ...] = (
        ("temperature", "celsius", LEAST_KELVIN),
        ("clock", "hz", LEAST_CLOCK_SHARE * most_hz),
    )
    for what, unit, least in cooling:
        then, now = (_driven(one.series, what) for one in (before, after))
        if then is None or now is None:
            continue
        equal = _at_equal_use(
            (then.values, before.series.machine.used.values),
            (now.values, after.series.machine.used.values),
        )
        if equal is not None:
            yield Figure(what, unit, *equal, least, "heat")


def _driven(series: Series, what: Driven) -> Rate | None:
    if what == "clock":
        clock = series.machine.mean_clock_hz
        return clock.at_ends() if clock is not None else None
    sensor = series.processor_sensor
    return sensor.level.at_ends() if sensor is not None else None


def _at_equal_use(
    then: tuple[Floats, Floats], now: tuple[Floats, Floats]
) -> tuple[Floats, Floats] | None:
    """Return figures as they would be at the use that both captures had; None where none is equal.

    Each is handed with the use of the processors, which explains a part of it: by one straight line
    for both captures.
    """
    known = [
        (values[there], load[there])
        for values, load in (then, now)
        for there in [~np.isnan(values) & ~np.isnan(load)]
    ]
    (first, load_1), (second, load_2) = known
    if min(len(first), len(second)) < 2:
        return None
    low, high = max(load_1.min(), load_2.min()), min(load_1.max(), load_2.max())
    inside = [
        float(((load >= low - OVERLAP_LEAST / 4) & (load <= high + OVERLAP_LEAST / 4)).mean())
        for load in (load_1, load_2)
    ]
    if low > high + OVERLAP_LEAST / 2 or min(inside) < OVERLAP_LEAST:
        return None
    moved = [load - load.mean() for load in (load_1, load_2)]
    spread = sum(float((one**2).sum()) for one in moved)
    slope = 0.0
    if spread > 0:
        slope = sum(
            float((one * (values - values.mean())).sum())
            for one, values in zip(moved, (first, second), strict=True)
        ) / spread  # fmt: skip
    middle = (low + high) / 2
    return first - slope * (load_1 - middle), second - slope * (load_2 - middle)


def application_figures(before: Examined, after: Examined) -> Iterator[Figure]:
    """Yield what each application takes; one that a capture lacks took nothing there."""
    earlier = _by_name(before.series)
    processors = float(after.series.machine.online.values.mean())
    memory = after.series.machine.managed_bytes
    taken: tuple[tuple[Taken, FigureUnit, float], ...] = (
        ("cores", "cores", max(LEAST_CORES, LEAST_OF_PROCESSORS * processors)),
        ("memory", "bytes", LEAST_BYTES_SHARE * memory),
        ("disk", "bytes/s", LEAST_BYTES_PER_S),
        ("network", "bytes/s", LEAST_BYTES_PER_S),
    )
    later = _by_name(after.series)
    for name in dict.fromkeys((*later, *earlier)):
        for what, unit, least in taken:
            values = (
                _of(earlier.get(name, []), what, before.series),
                _of(later.get(name, []), what, after.series),
            )
            if max(float(one.mean()) if len(one) else 0.0 for one in values) >= least:
                yield Figure(what, unit, *values, least, name=name)


def _by_name(series: Series) -> dict[str, list[Application]]:
    """Return the applications by name: several of one name are one here."""
    found: dict[str, list[Application]] = {}
    for one in series.applications:
        if not (one.observer or one.kernel):
            found.setdefault(one.name, []).append(one)
    return found


def _of(applications: list[Application], what: Taken, series: Series) -> Floats:
    """Return what applications take together in each interval."""
    found = {
        "cores": lambda one: one.cores,
        "memory": lambda one: one.private_bytes.at_ends(),
        "disk": lambda one: one.disk_bytes_per_s,
        "network": lambda one: one.network_bytes_per_s,
    }[what]
    return Rate.total_of(series.line, map(found, applications)).known()
