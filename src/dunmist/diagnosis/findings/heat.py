"""Findings about heat, fans, sensors and batteries."""

from typing import NamedTuple

from dunmist.computer import PowerSupply
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.records import EvidenceFigure, Finding, figure
from dunmist.diagnosis.resources import find_heat, heat_evidence
from dunmist.diagnosis.strained_resources import StrainedResources
from dunmist.series import SensorSeries

W_PER_UW = 1e-6
S_PER_H = 3600
# drives, cards and batteries have heat of their own, that no fan of the board is for
COOLED_BY_FANS = ("board", "processor")


@finds("overheating", "throttled", "hot-while-idle")
def _processor(exam: Examination, strained: StrainedResources) -> list[Finding]:
    heat, table = exam.once(find_heat), exam.limits.heat
    if heat is None:
        return []
    evidence, celsius = heat_evidence(exam, heat), exam.typical(heat.celsius)
    findings = []
    if celsius >= heat.critical_celsius - table.near_kelvin:
        findings.append(Finding("overheating", "urgent", heat.sensor.name, evidence))
    if strained.has("heat"):
        findings.append(Finding("throttled", "urgent", None, evidence))
    used = exam.typical(exam.series.machine.used)
    if used <= table.idle_used and celsius >= table.idle_hot_celsius:
        idle = figure("cpu-used", used, of=float(len(exam.series.machine.processors)))
        findings.append(Finding("hot-while-idle", "concern", heat.sensor.name, [*evidence, idle]))
    return findings


@finds("fan-stopped")
def _fans(exam: Examination) -> list[Finding]:
    hottest = _hottest(exam)
    if hottest is None:
        return []
    name, celsius, critical = hottest
    if celsius < exam.limits.heat.fan_stopped_celsius:
        return []  # many fans rest while it is cool
    sensors = exam.series.devices.sensors
    fans = [sensor for sensor in sensors if sensor.quantity == "fan" and sensor.is_trusted]
    turning = [fan for fan in fans if (fan.level.greatest() or 0.0) > 0]
    if not fans or turning:
        return []  # boards have more connectors than fans: one that turns is enough
    evidence = [
        figure("part-celsius", celsius, name=name)
        if critical is None
        else figure("part-limit", celsius, name=name, of=critical)
    ]
    return [Finding("fan-stopped", "urgent", fans[0].name, evidence)]


class Hottest(NamedTuple):
    """The sensor that heat is judged by, its temperature and its limit."""

    name: str
    celsius: float
    critical: float | None


def _hottest(exam: Examination) -> Hottest | None:
    """Return the highest temperature of those that fans are for, None without any."""
    heat = exam.once(find_heat)
    parts = [
        Hottest(part.name, exam.typical(part.level.at_ends()), part.critical)
        for part in _temperatures(exam)
        if part.part in COOLED_BY_FANS
    ]
    if heat is not None:
        processor = exam.typical(heat.celsius)
        parts.append(Hottest(heat.sensor.name, processor, heat.critical_celsius))
    return max(parts, key=lambda part: part.celsius, default=None)


def _temperatures(exam: Examination) -> list[SensorSeries]:
    sensors = exam.series.devices.sensors
    return [sensor for sensor in sensors if sensor.quantity == "temperature" and sensor.is_trusted]


@finds("overheating")
def _parts(exam: Examination) -> list[Finding]:
    """Drives, boards and cards that are as hot as they bear, by their own limits."""
    heat, findings = exam.once(find_heat), []
    for part in _temperatures(exam):
        if heat is not None and part.sensor.chip == heat.sensor.chip:
            continue  # the processor's own, judged above
        # without a critical point, the upper limit is close to the point of protection
        limit = part.critical or part.high
        if limit is None:
            continue
        celsius = exam.typical(part.level.at_ends())
        if celsius >= limit - exam.limits.heat.near_kelvin_of_parts:
            evidence = _against_limit(exam, part, limit)
            findings.append(Finding("overheating", "concern", part.name, evidence))
    return findings


def _against_limit(exam: Examination, part: SensorSeries, limit: float) -> list[EvidenceFigure]:
    """Return the temperature of a part against its limit, and the time above it."""
    level = part.level.at_ends()
    above_s = float((level.at_least(limit).values * exam.series.line.interval_s).sum())
    evidence = [figure("part-limit", exam.typical(level), name=part.name, of=limit)]
    if above_s > 0:
        evidence.append(figure("part-above", above_s, name=part.name))
    return evidence


@finds("sensor-implausible")
def _implausible(exam: Examination) -> list[Finding]:
    findings = []
    for sensor in exam.series.devices.sensors:
        last = sensor.level.last()
        if sensor.doubt and last is not None:
            evidence = [figure("sensor-doubt", last, doubt=sensor.doubt)]
            findings.append(Finding("sensor-implausible", "note", sensor.name, evidence))
    return findings


@finds("battery-worn", "battery-drain")
def _batteries(exam: Examination) -> list[Finding]:
    table, findings = exam.limits.findings, []
    for supply in exam.series.devices.supplies.values():
        if supply.kind != "battery":
            continue
        held = held_share(supply)
        if held is not None and held <= table.battery_worn:
            evidence = [figure("battery-worn", held)]
            findings.append(Finding("battery-worn", "concern", supply.name, evidence))
        hours = hours_left(supply)
        if supply.status == "discharging" and hours is not None and hours <= table.battery_hours:
            evidence = [
                figure("battery-left", hours * S_PER_H),
                figure("battery-drain", (supply.power_now or 0) * W_PER_UW),
            ]
            findings.append(Finding("battery-drain", "concern", supply.name, evidence))
    return findings


def held_share(power_supply: PowerSupply) -> float | None:
    """Return the capacity of a battery against its design, None if unknown."""
    full = power_supply.energy_full or power_supply.charge_full
    design = power_supply.energy_full_design or power_supply.charge_full_design
    return full / design if full and design else None


def hours_left(power_supply: PowerSupply) -> float | None:
    """Return the time that the charge lasts at the present drain, None if unknown."""
    if power_supply.energy_now is not None and power_supply.power_now:
        return power_supply.energy_now / abs(power_supply.power_now)
    if power_supply.charge_now is not None and power_supply.current_now:
        return power_supply.charge_now / abs(power_supply.current_now)
    return None


@finds("drive-too-hot")
def _drives(exam: Examination) -> list[Finding]:
    """A drive above its own limit slows itself down, and with it all that read from it."""
    findings = []
    disks = {disk.device: disk.name for disk in exam.series.header.inventory.disks if disk.device}
    for part in _temperatures(exam):
        disk = disks.get(part.sensor.device)
        # a drive acts from its upper limit on; where it has none, before the critical one
        limit = part.high or part.critical
        if part.part != "disk" or disk is None or limit is None:
            continue
        if exam.typical(part.level.at_ends()) >= limit:
            evidence = _against_limit(exam, part, limit)
            findings.append(Finding("drive-too-hot", "urgent", disk, evidence))
    return findings


@finds("charger-weak")
def _chargers(exam: Examination) -> list[Finding]:
    """A battery that empties although mains are there: the charger is too weak for the work."""
    supplies = exam.series.devices.supplies.values()
    if not any(supply.online for supply in supplies if supply.kind != "battery"):
        return []
    findings = []
    for supply in supplies:
        watts = abs(supply.power_now or 0) * W_PER_UW
        drains = supply.kind == "battery" and supply.status == "discharging"
        if drains and watts >= exam.limits.findings.charger_short_w:
            evidence = [figure("battery-on-mains", watts, name=supply.name)]
            power = exam.series.package_power
            mean = power.mean() if power is not None else None
            if mean is not None:
                evidence.append(figure("package-power", mean))
            findings.append(Finding("charger-weak", "concern", supply.name, evidence))
    return findings
