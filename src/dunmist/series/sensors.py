"""Sensors in SI units: names, limits, whether they can be true, and which one is the processor's.

What people know better goes before what the drivers say: a file of corrections (TOML) renames,
shifts, scales or leaves out a sensor by chip and label. Implausible readings stay in the capture
and in the tables; they are flagged and take no part in a verdict.
"""

import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any, Literal, NamedTuple

import msgspec
import numpy as np

from dunmist.computer import RAW_PER_UNIT, Quantity, Sensor
from dunmist.computer.sensor_choice import is_meant, limit_of, part_of, sensor_choice
from dunmist.errors import SettingsError
from dunmist.sampling import SENSORS_S
from dunmist.series.counters import Track
from dunmist.series.timeline import Level, Rate, TimeLine
from dunmist.trusted_paths import read_settings


class Correction(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Correction of the sensors of a driver whose channel matches."""

    driver: str
    channel: str = "*"  # label or channel name, with * and ?
    name: str | None = None
    plus: float = 0.0  # added after the factor, in SI units
    times: float = 1.0
    leave_out: bool = False


class _Settings(msgspec.Struct, frozen=True):
    sensor: list[Correction] = []


class Doubt(NamedTuple):
    """Why readings cannot be true: a key that advice has the words for, and the figures in it."""

    key: Literal["no-reading", "fault", "outside", "stands-still"]
    value: float = 0.0
    least: float = 0.0
    most: float = 0.0


@dataclass(frozen=True, slots=True)
class SensorSeries:
    """One sensor over the ticks, in SI units."""

    sensor: Sensor
    name: str
    part: str  # of the computer: cpu, drive, graphics
    level: Level
    watts: Rate | None  # of an energy counter; None for other sensors
    critical: float | None  # the hardware protects itself there
    high: float | None  # upper limit of the driver
    doubt: Doubt | None  # why the readings cannot be true

    @property
    def quantity(self) -> Quantity:
        """Measured quantity."""
        return self.sensor.quantity

    @property
    def shown(self) -> Level | Rate:
        """Quantity for people: for an energy counter the power."""
        return self.level if self.watts is None else self.watts

    @property
    def is_trusted(self) -> bool:
        """Whether it may take part in a verdict."""
        return self.doubt is None


class ProcessorSensor(NamedTuple):
    """The temperature of the processor over the ticks, whose it is, and why it was taken."""

    chip: str
    name: str
    level: Level
    critical: float | None
    why: str


def load_corrections(path: Path) -> list[Correction]:
    """Return the corrections of a file, none when there is no file; raises SettingsError."""
    try:
        text = read_settings(path)
        return msgspec.convert(tomllib.loads(text), _Settings).sensor if text else []
    except (OSError, ValueError) as error:
        # both parsers' errors are values that cannot be
        raise SettingsError(
            f"{path}: no corrections of sensors ({error}); mend it, or move it away"
        ) from error


def sensor_series(
    readings: dict[int, Track],
    sensors: list[Sensor],
    line: TimeLine,
    corrections: Sequence[Correction],
) -> list[SensorSeries]:
    """Return every sensor but those that a correction leaves out."""
    series = []
    for index, sensor in enumerate(sensors):
        change = _correction(sensor, corrections)
        if not change.leave_out:
            series.append(_made(sensor, readings.get(index), line, change))
    return series


def _correction(sensor: Sensor, corrections: Sequence[Correction]) -> Correction:
    label = sensor.label or sensor.channel
    for correction in corrections:
        if fnmatchcase(sensor.chip, correction.driver) and fnmatchcase(label, correction.channel):
            return correction
    return Correction(sensor.chip)


def _made(sensor: Sensor, track: Track | None, line: TimeLine, change: Correction) -> SensorSeries:
    unit = RAW_PER_UNIT[sensor.quantity]
    limits = {name: float(limit) / unit for name, limit in sensor.limits.items()}
    raw = track.level("raw") if track else Level.unknown(line)
    level = raw / unit * change.times + change.plus
    return SensorSeries(
        sensor=sensor,
        name=change.name or _name(sensor),
        part=part_of(sensor.chip),
        level=level,
        watts=_watts(sensor, track, line) if sensor.quantity == "energy" else None,
        critical=limit_of(limits) if sensor.quantity == "temperature" else None,
        high=limit_of(limits, ("max",)),
        doubt=_doubt(sensor, level),
    )


def _watts(sensor: Sensor, track: Track | None, line: TimeLine) -> Rate:
    """Return the power of an energy counter; it may have wrapped once between two readings."""
    if track is None:
        return Rate.unknown(line)
    joules = track.rate("raw", wraps_at=sensor.wraps_at, read_every_s=SENSORS_S)
    return joules / RAW_PER_UNIT["energy"]


def _name(sensor: Sensor) -> str:
    return f"{sensor.chip} {sensor.label or sensor.channel}"


def _doubt(sensor: Sensor, level: Level) -> Doubt | None:
    known = level.known()
    if not len(known):
        return Doubt("no-reading")
    # the chip itself says that the sensor is broken or missing
    if "fault" in sensor.alarms:
        return Doubt("fault")
    table = sensor_choice()["plausible"]
    bounds = table.get(sensor.quantity)
    if bounds and (known.min() < bounds[0] or known.max() > bounds[1]):
        return Doubt("outside", float(known.max()), bounds[0], bounds[1])
    if sensor.quantity == "temperature":
        held = float(known[0])
        # an input with nothing on it reads a round number for ever
        if np.all(known == held) and held in table["disconnected"]:
            return Doubt("stands-still", held)
    return None


def processor_sensor(sensors: list[SensorSeries]) -> ProcessorSensor | None:
    """Return the sensor to take for the processor, None when none of the rules finds one."""
    trusted = [
        sensor for sensor in sensors if sensor.quantity == "temperature" and sensor.is_trusted
    ]
    for rule in sensor_choice()["processor"]:
        matching = [
            sensor for sensor in trusted if is_meant(rule, sensor.sensor.chip, sensor.sensor.label)
        ]
        if matching:
            return _chosen(matching, rule)
    return None


def _chosen(matching: list[SensorSeries], rule: dict[str, Any]) -> ProcessorSensor:
    hottest = max(matching, key=lambda candidate: candidate.level.greatest() or 0.0)
    # several packages or dies: the processor is as hot as the hottest of them
    level = Level.greatest_of([sensor.level for sensor in matching])
    return ProcessorSensor(
        hottest.sensor.chip, hottest.name, level, hottest.critical, str(rule["why"])
    )
