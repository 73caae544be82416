"""Resource ``heat``: does the processor lose clock because it is hot?

A hot processor that keeps its clock limits nothing. What it loses is judged only while it is busy:
an idle one lowers its clock to save power. The throttle counters, where there are any, are the
kernel's own word.
"""

from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.lasting import lasting, lasting_level, trace_of
from dunmist.diagnosis.records import ResourceState, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import Level
from dunmist.series import ProcessorSensor, Series, processor_sensor
from dunmist.series.rates import Floats


class Heat(NamedTuple):
    """What is known of the processor's heat, over the intervals; NaN is 'cannot be told'.

    ``margin`` is kelvin to the critical point, ``lost`` the share of the clock that busy processors
    lack, ``throttles`` counts by interval.
    """

    sensor: ProcessorSensor | None
    celsius: Floats
    margin: Floats
    lost: Floats
    throttles: Floats | None
    critical_celsius: float
    is_critical_known: bool

    @property
    def last_celsius(self) -> float:
        """The newest reading, NaN without a sensor."""
        known = self.celsius[~np.isnan(self.celsius)]
        return float(known[-1]) if len(known) else float("nan")


def find_heat(series: Series, limits: Thresholds) -> Heat:
    """Return what is known of the processor's heat."""
    table = limits["heat"]
    sensor = processor_sensor(series.devices.sensors)
    nothing = np.full(len(series.machine.interval_s), np.nan)
    celsius = sensor.values[1:] if sensor else nothing
    critical = sensor.critical if sensor and sensor.critical else None
    point = critical or table["assumed_critical_celsius"]
    counts = [series.devices.throttled[kind] for kind in sorted(series.devices.throttled)]
    return Heat(
        sensor=sensor,
        celsius=celsius,
        margin=point - celsius,
        lost=lost_clock(series, limits),
        throttles=np.maximum.reduce(counts) if counts else None,
        critical_celsius=point,
        is_critical_known=critical is not None,
    )


def lost_clock(series: Series, limits: Thresholds) -> Floats:
    """Return the share of the clock that busy processors lack, in each interval."""
    machine, table = series.machine, limits["heat"]
    lost = np.full(len(machine.interval_s), np.nan)
    if machine.clocks_hz is None:
        return lost
    places = {one.number: one for one in series.header.machine.processors}
    most = np.array([(places[n].max_khz or 0) * 1e3 if n in places else 0.0
                     for n in machine.numbers])  # fmt: skip
    with np.errstate(invalid="ignore", divide="ignore"):
        ratio = np.where(most > 0, machine.clocks_hz[1:] / most, np.nan)
    ratio = np.where(machine.busy >= table["busy_processor"], ratio, np.nan)
    for row in np.flatnonzero(~np.isnan(ratio).all(axis=1)):
        lost[row] = max(0.0, 1.0 - float(np.nanmean(ratio[row])) / table["full_clock"])
    return lost


def judge_heat(series: Series, heat: Heat, limits: Thresholds) -> ResourceState | None:
    """Return the state of the processor's heat, None where no sensor tells."""
    if heat.sensor is None:
        return None
    table, interval_s = limits["heat"], series.machine.interval_s
    share = limits["lasting"]["share"]
    near = heat.margin <= table["near_kelvin"]
    lost = np.nan_to_num(heat.lost)
    throttled = np.zeros(len(lost)) if heat.throttles is None else (heat.throttles > 0)
    is_throttled = float(np.average(throttled, weights=interval_s)) >= table["throttled_share"]
    protects = near & ((lost >= table["strained_lost"]) | is_throttled)
    met: dict[Level, Floats] = {
        "busy": (heat.margin <= table["busy_kelvin"]).astype(float),
        "strained": protects.astype(float),
        "choked": (protects & (lost >= table["choked_lost"])).astype(float),
    }
    level = lasting_level(met, interval_s, share)
    span = heat.critical_celsius - table["room_celsius"]
    used = np.clip((heat.celsius - table["room_celsius"]) / span, 0.0, 1.0)
    return ResourceState(
        "heat",
        level,
        lasting(used, interval_s, share),
        lasting(lost, interval_s, share),
        heat_signs(series, heat, limits),
        name=heat.sensor.name,
        trace=trace_of(used, lost, met),
    )


def heat_signs(series: Series, heat: Heat, limits: Thresholds) -> list[Sign]:
    """Return the figures that speak of heat."""
    interval_s, share = series.machine.interval_s, limits["lasting"]["share"]
    source = "/sys/class/hwmon, /sys/class/thermal"
    name = heat.sensor.name if heat.sensor else None
    key = "heat-celsius" if heat.is_critical_known else "heat-celsius-assumed"
    signs = (
        []
        if heat.sensor is None
        else [
            Sign(
                "heat-sensor",
                heat.last_celsius,
                "°C",
                source,
                name=f"{name}, because {heat.sensor.why}",
            )
        ]
    )
    signs += [
        Sign(
            key, lasting(heat.celsius, interval_s, share), "°C", source,
            of=heat.critical_celsius, name=name,
        )
    ]  # fmt: skip
    if not np.isnan(heat.celsius).all():
        room = limits["heat"]["room_celsius"]
        rise = lasting(heat.celsius, interval_s, share) - room
        used = lasting(series.machine.used, interval_s, share)
        signs.append(Sign("heat-rise", rise, "K", source, of=used, name=f"{room:.0f}"))
    if not np.isnan(heat.lost).all():
        lost = lasting(np.nan_to_num(heat.lost), interval_s, share)
        signs.append(Sign("heat-lost-clock", lost, "share", "/sys/devices/system/cpu/*/cpufreq"))
    if heat.throttles is not None:
        signs.append(
            Sign("heat-throttles", float(heat.throttles.sum()), "times",
                 "/sys/devices/system/cpu/*/thermal_throttle")
        )  # fmt: skip
    return signs
