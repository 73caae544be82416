"""Declare the figures of two captures that are compared, and the differences that matter.

A figure is compared where both captures have it. ``least`` is the smallest difference that anybody
would notice, in the figure's unit: below it a difference may be sure and still say nothing.
"""

from collections.abc import Iterator
from typing import Literal, NamedTuple

import numpy as np

from dunmist.diagnosis import CompareLimits, Diagnosis, ResourceState, ResourceWord
from dunmist.series import Application, Floats, Rate, Series

Driven = Literal["temperature", "clock"]
Taken = Literal["cores", "memory", "disk", "network"]
FigureUnit = Literal["share", "celsius", "hz", "cores", "bytes", "bytes/s"]


class Examined(NamedTuple):
    """A capture that is compared."""

    series: Series
    diagnosis: Diagnosis

    @property
    def limits(self) -> CompareLimits:
        """The figures that say what difference matters."""
        return self.diagnosis.limits.compare


class Figure(NamedTuple):
    """One figure of a resource or an application in both captures."""

    what: Literal["used", "held-up"] | Driven | Taken
    unit: FigureUnit
    before: Floats  # its known values, one per interval
    after: Floats
    least: float  # smaller differences do not matter
    resource: ResourceWord | None = None  # None for a figure of an application
    name: str | None = None

    @property
    def is_seen(self) -> bool:
        """Whether there is enough of it in either capture for anybody to notice."""
        return any(
            len(values) and float(values.mean()) >= self.least
            for values in (self.before, self.after)
        )


def resource_key(state: ResourceState) -> tuple[ResourceWord, str | None]:
    """Return the key of a resource, the same in every capture of a computer."""
    # the fullest single processor is another one in every sample
    return state.resource, None if state.resource == "core" else state.name


def resource_figures(before: Examined, after: Examined) -> Iterator[Figure]:
    """Yield the use and the pressure of each resource."""
    known = {resource_key(state): state for state in before.diagnosis.resources}
    least = after.limits.least_share
    for state in after.diagnosis.resources:
        other = known.get(resource_key(state))
        if other is None or other.trace is None or state.trace is None:
            continue
        used = other.trace.used.known(), state.trace.used.known()
        if state.resource != "heat":  # which has degrees
            yield Figure("used", "share", *used, least, *resource_key(state))
        if other.trace.pressure is not None and state.trace.pressure is not None:
            held_up = other.trace.pressure.known(), state.trace.pressure.known()
            yield Figure("held-up", "share", *held_up, least, *resource_key(state))


def cooling_figures(before: Examined, after: Examined) -> Iterator[Figure]:
    """Yield temperature and clock at equal use of the CPUs; empty if none is equal."""
    limits, most_hz = after.limits, after.series.machine.most_clock_hz or 0.0
    cooling: tuple[tuple[Driven, FigureUnit, float], ...] = (
        ("temperature", "celsius", limits.least_kelvin),
        ("clock", "hz", limits.least_clock_share * most_hz),
    )
    for what, unit, least in cooling:
        then, now = (_driven(exam.series, what) for exam in (before, after))
        if then is None or now is None:
            continue
        equal = at_equal_use(
            (then.values, before.series.machine.used.values),
            (now.values, after.series.machine.used.values),
            limits,
        )
        if equal is not None:
            yield Figure(what, unit, *equal, least, "heat")


def _driven(series: Series, what: Driven) -> Rate | None:
    if what == "clock":
        clock = series.machine.mean_clock_hz
        return clock.at_ends() if clock is not None else None
    sensor = series.processor_sensor
    return sensor.level.at_ends() if sensor is not None else None


def at_equal_use(
    then: tuple[Floats, Floats], now: tuple[Floats, Floats], limits: CompareLimits
) -> tuple[Floats, Floats] | None:
    """Return figures as they would be at the use that both captures had; None if none is equal.

    Each is handed with the use of the CPUs, which explains a part of it: by one straight line
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
    reach = limits.overlap_reach
    inside = [
        float(((load >= low - reach) & (load <= high + reach)).mean()) for load in (load_1, load_2)
    ]
    if low > high + 2 * reach or min(inside) < limits.overlap_least:
        return None
    moved = [load - load.mean() for load in (load_1, load_2)]
    spread = sum(float((residuals**2).sum()) for residuals in moved)
    slope = 0.0
    if spread > 0:
        slope = (
            sum(
                float((residuals * (values - values.mean())).sum())
                for residuals, values in zip(moved, (first, second), strict=True)
            )
            / spread
        )
    middle = (low + high) / 2
    return first - slope * (load_1 - middle), second - slope * (load_2 - middle)


def application_figures(before: Examined, after: Examined) -> Iterator[Figure]:
    """Yield the usage of each application; one that a capture lacks used nothing there.

    Most of them nobody notices: ``is_seen`` tells.
    """
    limits, machine = after.limits, after.series.machine
    processors = float(machine.online.values.mean())
    taken: tuple[tuple[Taken, FigureUnit, float], ...] = (
        ("cores", "cores", max(limits.least_cores, limits.least_of_processors * processors)),
        ("memory", "bytes", limits.least_of_memory * machine.managed_bytes),
        ("disk", "bytes/s", limits.least_bytes_per_s),
        ("network", "bytes/s", limits.least_bytes_per_s),
    )
    earlier, later = _by_name(before.series), _by_name(after.series)
    for name in dict.fromkeys((*later, *earlier)):
        for what, unit, least in taken:
            then = _of(earlier.get(name, []), what, before.series)
            now = _of(later.get(name, []), what, after.series)
            yield Figure(what, unit, then, now, least, name=name)


def _by_name(series: Series) -> dict[str, list[Application]]:
    """Return the applications by by_name: several of one by_name are one here."""
    by_name: dict[str, list[Application]] = {}
    for application in series.applications:
        if not (application.observer or application.kernel):
            by_name.setdefault(application.name, []).append(application)
    return by_name


def _of(applications: list[Application], what: Taken, series: Series) -> Floats:
    """Return the usage of applications together in each interval."""
    rates = {
        "cores": lambda application: application.cores,
        "memory": lambda app: app.private_bytes.at_ends(),
        "disk": lambda app: app.disk_bytes_per_s,
        "network": lambda app: app.network_bytes_per_s,
    }[what]
    return Rate.total_of(series.line, map(rates, applications)).known()
