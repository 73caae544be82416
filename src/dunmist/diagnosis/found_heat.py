"""Findings about heat, fans, sensors and batteries."""

from dunmist.computer import PowerSupply
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import Finding, sign
from dunmist.diagnosis.resources import find_heat, heat_signs
from dunmist.diagnosis.strains import Strains

W_PER_UW = 1e-6
S_PER_H = 3600


def _processor(exam: Examination, strains: Strains) -> list[Finding]:
    heat, table = exam.once(find_heat), exam.limits.heat
    if heat is None:
        return []
    signs, celsius = heat_signs(exam, heat), exam.typical(heat.celsius)
    found = []
    if celsius >= heat.critical_celsius - table.near_kelvin:
        found.append(Finding("overheating", "urgent", heat.sensor.name, signs))
    if strains.has("heat"):
        found.append(Finding("throttled", "urgent", None, signs))
    used = exam.typical(exam.series.machine.used)
    if used <= table.idle_used and celsius >= table.idle_hot_celsius:
        idle = sign("cpu-used", used, of=float(len(exam.series.machine.processors)))
        found.append(Finding("hot-while-idle", "concern", heat.sensor.name, [*signs, idle]))
    return found


def _fans(exam: Examination, strains: Strains) -> list[Finding]:
    del strains
    heat = exam.once(find_heat)
    if heat is None:
        return []
    celsius = exam.typical(heat.celsius)
    if celsius < exam.limits.heat.fan_stopped_celsius:
        return []  # many fans rest while it is cool
    sensors = exam.series.devices.sensors
    fans = [sensor for sensor in sensors if sensor.quantity == "fan" and sensor.is_trusted]
    turning = [fan for fan in fans if (fan.level.greatest() or 0.0) > 0]
    if not fans or turning:
        return []  # boards have more connectors than fans: one that turns is enough
    signs = [sign("heat-celsius", celsius, name=heat.sensor.name, of=heat.critical_celsius)]
    return [Finding("fan-stopped", "urgent", fans[0].name, signs)]


def _implausible(exam: Examination, strains: Strains) -> list[Finding]:
    del strains
    found = []
    for sensor in exam.series.devices.sensors:
        last = sensor.level.last()
        if sensor.doubt and last is not None:
            signs = [sign("sensor-doubt", last, doubt=sensor.doubt)]
            found.append(Finding("sensor-implausible", "note", sensor.name, signs))
    return found


def _batteries(exam: Examination, strains: Strains) -> list[Finding]:
    del strains
    table, found = exam.limits.findings, []
    for supply in exam.series.devices.supplies.values():
        if supply.kind != "battery":
            continue
        held = held_share(supply)
        if held is not None and held <= table.battery_worn:
            signs = [sign("battery-worn", held)]
            found.append(Finding("battery-worn", "concern", supply.name, signs))
        hours = hours_left(supply)
        if supply.status == "discharging" and hours is not None and hours <= table.battery_hours:
            signs = [
                sign("battery-left", hours * S_PER_H),
                sign("battery-drain", (supply.power_now or 0) * W_PER_UW),
            ]
            found.append(Finding("battery-drain", "concern", supply.name, signs))
    return found


def held_share(one: PowerSupply) -> float | None:
    """Return what a battery holds of what it was made for, None where it cannot be told."""
    full = one.energy_full or one.charge_full
    design = one.energy_full_design or one.charge_full_design
    return full / design if full and design else None


def hours_left(one: PowerSupply) -> float | None:
    """Return how long the charge lasts at the present drain, None where it cannot be told."""
    if one.energy_now is not None and one.power_now:
        return one.energy_now / abs(one.power_now)
    if one.charge_now is not None and one.current_now:
        return one.charge_now / abs(one.current_now)
    return None


RULES = (_processor, _fans, _implausible, _batteries)
