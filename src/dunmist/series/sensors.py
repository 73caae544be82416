"""Sensors in SI units: names, limits, whether they can be true, and which one is the processor's.

What people know better goes before what the drivers say: a file of corrections (TOML) renames,
shifts, scales or leaves out a sensor by chip and label. Implausible readings stay in the capture
and in the tables; they are flagged and take no part in a verdict.
"""

import re
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any, NamedTuple

import msgspec
import numpy as np

from dunmist.computer import RAW_PER_UNIT, Quantity, Sensor
from dunmist.errors import SettingsError
from dunmist.series.rates import Floats
from dunmist.series.sparse import Sparse

CRITICAL = ("crit", "critical", "emergency", "max", "hot")


class Correction(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What to do about the sensors of a chip whose label matches; ``offset`` is in SI units."""

    chip: str
    label: str = "*"
    name: str | None = None
    offset: float = 0.0
    scale: float = 1.0
    ignore: bool = False


class _Settings(msgspec.Struct, frozen=True):
    sensor: list[Correction] = []


@dataclass(frozen=True, slots=True)
class SensorSeries:
    """One sensor over the ticks, in °C, turns a minute, V, A, W or (energy) J.

    ``critical`` is the limit at which the hardware protects itself, ``high`` the driver's own upper
    limit. ``doubt`` says why the readings cannot be true, None when they can.
    """

    sensor: Sensor
    name: str
    part: str
    values: Floats
    critical: float | None
    high: float | None
    doubt: str | None

    @property
    def quantity(self) -> Quantity:
        """What it measures."""
        return self.sensor.quantity

    @property
    def is_trusted(self) -> bool:
        """Whether it may take part in a verdict."""
        return self.doubt is None


class ProcessorSensor(NamedTuple):
    """The temperature of the processor over the ticks, whose it is, and why it was taken."""

    name: str
    values: Floats
    critical: float | None
    why: str


def load_corrections(path: Path) -> list[Correction]:
    """Return the corrections of a file, none when there is no file; raises SettingsError."""
    try:
        text = path.read_text(encoding="utf-8")
        return msgspec.convert(tomllib.loads(text), _Settings).sensor
    except (FileNotFoundError, PermissionError):  # none, or in somebody else's home
        return []
    except (OSError, ValueError) as error:
        # both parsers' errors are values that cannot be
        raise SettingsError(
            f"{path}: no corrections of sensors ({error}); mend it, or move it away"
        ) from error


@cache
def _choice() -> dict[str, Any]:
    text = (files("dunmist.series") / "sensor_choice.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


def sensor_series(
    readings: Sparse[int], sensors: list[Sensor], ticks: int, corrections: Sequence[Correction]
) -> list[SensorSeries]:
    """Return every sensor but those that a correction leaves out."""
    over = readings.over(ticks)
    nothing = np.full((ticks, 1), np.nan)
    found = []
    for place, sensor in enumerate(sensors):
        change = _correction(sensor, corrections)
        if not change.ignore:
            found.append(_one(sensor, over.get(place, nothing)[:, 0], change))
    return found


def _correction(sensor: Sensor, corrections: Sequence[Correction]) -> Correction:
    label = sensor.label or sensor.channel
    for one in corrections:
        if fnmatchcase(sensor.chip, one.chip) and fnmatchcase(label, one.label):
            return one
    return Correction(sensor.chip)


def _one(sensor: Sensor, raw: Floats, change: Correction) -> SensorSeries:
    unit = RAW_PER_UNIT[sensor.quantity]

    def corrected(value: Floats) -> Floats:
        return value / unit * change.scale + change.offset

    limits = {name: float(limit) / unit for name, limit in sensor.limits.items()}
    values = corrected(raw)
    return SensorSeries(
        sensor=sensor,
        name=change.name or _name(sensor),
        part=_part(sensor),
        values=values,
        critical=_limit(limits, CRITICAL) if sensor.quantity == "temperature" else None,
        high=_limit(limits, ("max",)),
        doubt=_doubt(sensor, values),
    )


def _name(sensor: Sensor) -> str:
    return f"{sensor.chip} {sensor.label or sensor.channel}"


def _part(sensor: Sensor) -> str:
    rules = _choice()["part"]
    return next(str(rule["is"]) for rule in rules if re.fullmatch(rule["chip"], sensor.chip))


def _limit(limits: dict[str, float], names: Sequence[str]) -> float | None:
    # drivers that know no limit publish 0, or the greatest or smallest number there is
    low, high = _choice()["plausible"]["temperature"]
    return next((limits[n] for n in names if n in limits and max(low, 0) < limits[n] <= high), None)


def _doubt(sensor: Sensor, values: Floats) -> str | None:
    known = values[~np.isnan(values)]
    if not len(known):
        return "it gives no reading"
    if "fault" in sensor.alarms:
        return "the chip reports a fault of it"
    table = _choice()["plausible"]
    bounds = table.get(sensor.quantity)
    if bounds and (known.min() < bounds[0] or known.max() > bounds[1]):
        return f"{known.max():.6g} is outside of {bounds[0]:g} to {bounds[1]:g}"
    if sensor.quantity == "temperature":
        held = float(known[0])
        if np.all(known == held) and held in table["disconnected"]:
            return f"it stands still at {held:g}, as an input does that nothing is connected to"
    return None


def processor_sensor(sensors: list[SensorSeries]) -> ProcessorSensor | None:
    """Return the sensor to take for the processor, None when none of the rules finds one."""
    trusted = [one for one in sensors if one.quantity == "temperature" and one.is_trusted]
    for rule in _choice()["processor"]:
        matching = [
            one
            for one in trusted
            if one.sensor.chip == rule["chip"]
            and fnmatchcase(one.sensor.label or "", rule["label"])
        ]
        if matching:
            return _chosen(matching, rule)
    return None


def _chosen(matching: list[SensorSeries], rule: dict[str, Any]) -> ProcessorSensor:
    hottest = max(matching, key=lambda one: float(np.nanmax(one.values)))
    # several packages or dies: the processor is as hot as the hottest of them
    values = np.fmax.reduce([one.values for one in matching])
    return ProcessorSensor(hottest.name, values, hottest.critical, str(rule["why"]))


def energy_watts(one: SensorSeries, interval_s: Floats) -> Floats:
    """Return the power of an energy counter in each interval, in W; it may have wrapped once."""
    used = np.diff(one.values)
    if one.sensor.wraps_at:
        used = np.where(used < 0, used + one.sensor.wraps_at / RAW_PER_UNIT["energy"], used)
    used[used < 0] = np.nan
    watts: Floats = used / interval_s
    return watts
