"""Findings about heat, fans, sensors and batteries."""

import numpy as np

from dunmist.computer import PowerSupply
from dunmist.diagnosis.heat import heat_signs
from dunmist.diagnosis.known import Known, typical
from dunmist.diagnosis.records import Finding, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.series import Series

UW = 1e-6


def heat_findings(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    """Return them."""
    return [
        *_processor(series, known, limits),
        *_fans(series, known, limits),
        *_implausible(series),
        *_batteries(series, limits),
    ]


def _processor(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    heat, table = known.heat, limits["heat"]
    if heat.sensor is None:
        return []
    signs = heat_signs(series, heat, limits)
    celsius = typical(series, heat.celsius, limits)
    found = []
    if celsius >= heat.critical_celsius - table["near_kelvin"]:
        found.append(Finding("overheating", "urgent", heat.sensor.name, signs))
    if known.is_strained("heat"):
        found.append(Finding("throttled", "urgent", "processor", signs))
    used = typical(series, series.machine.used, limits)
    if used <= table["idle_used"] and celsius >= table["idle_hot_celsius"]:
        idle = Sign("cpu-used", used, "share", "/proc/stat", of=float(len(series.machine.numbers)))
        found.append(Finding("hot-while-idle", "concern", heat.sensor.name, [*signs, idle]))
    return found


def _fans(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    heat = known.heat
    if heat.sensor is None:
        return []
    celsius = typical(series, heat.celsius, limits)
    if celsius < limits["heat"]["fan_stopped_celsius"]:
        return []  # many fans rest while it is cool
    fans = [one for one in series.devices.sensors if one.quantity == "fan" and one.is_trusted]
    turning = [one for one in fans if np.nanmax(one.values) > 0]
    if not fans or turning:
        return []  # boards have more connectors than fans: one that turns is enough
    sign = Sign("heat-celsius", celsius, "°C", "/sys/class/hwmon", of=heat.critical_celsius,
                name=heat.sensor.name)  # fmt: skip
    return [Finding("fan-stopped", "urgent", fans[0].name, [sign])]


def _implausible(series: Series) -> list[Finding]:
    found = []
    for one in series.devices.sensors:
        known = one.values[~np.isnan(one.values)]
        if one.doubt and len(known):
            sign = Sign("sensor-doubt", float(known[-1]), "as read", "/sys/class/hwmon",
                        name=one.doubt)  # fmt: skip
            found.append(Finding("sensor-implausible", "note", one.name, [sign]))
    return found


def _batteries(series: Series, limits: Thresholds) -> list[Finding]:
    table, found = limits["findings"], []
    for one in series.devices.supplies.values():
        if one.kind != "battery":
            continue
        full, design = (
            one.energy_full or one.charge_full,
            (one.energy_full_design or one.charge_full_design),
        )
        if full and design and full / design <= table["battery_worn"]:
            sign = Sign("battery-worn", full / design, "share", "/sys/class/power_supply")
            found.append(Finding("battery-worn", "concern", one.name, [sign]))
        hours = hours_left(one)
        if one.status == "discharging" and hours is not None and hours <= table["battery_hours"]:
            signs = [
                Sign("battery-left", hours * 3600, "s", "/sys/class/power_supply"),
                Sign("battery-drain", (one.power_now or 0) * UW, "W", "/sys/class/power_supply"),
            ]
            found.append(Finding("battery-drain", "concern", one.name, signs))
    return found


def hours_left(one: PowerSupply) -> float | None:
    """Return how long the charge lasts at the present drain, None where it cannot be told."""
    if one.energy_now is not None and one.power_now:
        return one.energy_now / abs(one.power_now)
    if one.charge_now is not None and one.current_now:
        return one.charge_now / abs(one.current_now)
    return None
