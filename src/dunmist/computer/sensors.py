"""Sensors: every hwmon chip, thermal zone and energy counter, as the drivers publish them.

Sources: ``Documentation/hwmon/sysfs-interface.rst``, ``Documentation/driver-api/thermal/sysfs-api.
rst``, ``Documentation/power/powercap/powercap.rst``. Readings stay raw, in the unit that the
interface fixes for each quantity (``RAW_PER_UNIT``); what they mean, and whether they can be true,
is for later rooms.
"""

import re
from collections.abc import Iterator
from typing import Literal

import msgspec

from dunmist.computer.parsing import parse_number, parse_text
from dunmist.computer.root import Root

SUBJECT = "sensors"
Quantity = Literal["temperature", "fan", "voltage", "current", "power", "energy", "humidity"]
# raw figure for one °C, turn a minute, V, A, W, J, share
RAW_PER_UNIT: dict[Quantity, float] = {
    "temperature": 1e3,
    "fan": 1.0,
    "voltage": 1e3,
    "current": 1e3,
    "power": 1e6,
    "energy": 1e6,
    "humidity": 1e5,
}
_PREFIXES: dict[str, Quantity] = {
    "temp": "temperature",
    "fan": "fan",
    "in": "voltage",
    "curr": "current",
    "power": "power",
    "energy": "energy",
    "humidity": "humidity",
}
_INPUT = re.compile(r"(temp|fan|in|curr|power|energy|humidity)(\d+)_(input|average)\Z")
_LIMITS = ("min", "max", "lcrit", "crit", "emergency", "max_hyst", "crit_hyst")
_ALARMS = ("alarm", "min_alarm", "max_alarm", "crit_alarm", "fault")
_TRIP = re.compile(r"trip_point_(\d+)_type\Z")
# reading these may wake or slow a device, so they are asked seldom
SLOW_CHIPS = frozenset(("drivetemp",))
ZONE_CHIP, ENERGY_CHIP = "thermal zone", "powercap"


class Sensor(msgspec.Struct, frozen=True, omit_defaults=True):
    """One sensor (Documentation/hwmon/sysfs-interface.rst)."""

    chip: str  # name of the driver
    device: str  # tells several chips of one driver apart
    channel: str  # as temp1, fan2
    quantity: Quantity
    path: str  # of its _input file, below the root
    label: str | None = None
    limits: dict[str, int] = {}  # raw, as its readings are
    alarms: list[str] = []
    wraps_at: int | None = None  # an energy counter starts again there


def read_sensors(root: Root) -> list[Sensor]:
    """Return every sensor that is published, in the order of the interfaces."""
    sensors = [*_hwmon(root), *_zones(root), *_energy(root)]
    if not sensors:
        root.note(SUBJECT, "absent")
    return sensors


def read_reading(root: Root, sensor: Sensor) -> int | None:
    """Return the raw reading; None when the driver has none, as for a disconnected input."""
    return root.parse(sensor.path, parse_number, SUBJECT, again=True, may_be_silent=True)


def _hwmon(root: Root) -> Iterator[Sensor]:
    for name in root.names("sys/class/hwmon"):
        directory = f"sys/class/hwmon/{name}"
        if not root.exists(f"{directory}/name"):
            directory = f"{directory}/device"  # drivers from before Linux 3.14
        chip = root.parse(f"{directory}/name", parse_text, SUBJECT)
        if chip is None:
            continue
        device = root.link_end(f"sys/class/hwmon/{name}/device") or name
        files = frozenset(root.names(directory))
        for file in sorted(files, key=_natural):
            match = _INPUT.match(file)
            if match and not (match[3] == "average" and f"{match[1]}{match[2]}_input" in files):
                yield _channel(root, f"{directory}/{file}", chip, device)


def _channel(root: Root, path: str, chip: str, device: str) -> Sensor:
    base = path.rpartition("_")[0]
    channel = base.rpartition("/")[2]

    def number(suffix: str) -> int | None:
        return root.parse(f"{base}_{suffix}", parse_number, SUBJECT, may_be_silent=True)

    limits = {suffix: number(suffix) for suffix in _LIMITS}
    return Sensor(
        chip=chip,
        device=device,
        channel=channel,
        quantity=_PREFIXES[channel.rstrip("0123456789")],
        path=path,
        label=root.parse(f"{base}_label", parse_text, SUBJECT, may_be_silent=True),
        limits={suffix: raw for suffix, raw in limits.items() if raw is not None},
        alarms=[suffix for suffix in _ALARMS if number(suffix)],
    )


def _zones(root: Root) -> Iterator[Sensor]:
    for name in root.names("sys/class/thermal"):
        if not name.startswith("thermal_zone"):
            continue
        directory = f"sys/class/thermal/{name}"
        limits: dict[str, int] = {}
        for file in root.names(directory):
            match = _TRIP.match(file)
            if not match:
                continue
            kind = root.parse(f"{directory}/{file}", parse_text, SUBJECT, may_be_silent=True)
            trip = f"{directory}/trip_point_{match[1]}_temp"
            raw = root.parse(trip, parse_number, SUBJECT, may_be_silent=True)
            if kind and raw is not None and raw > 0:
                # several active points are steps of the fan: the first of a kind is the lowest
                limits[kind] = min(raw, limits.get(kind, raw))
        yield Sensor(
            chip=ZONE_CHIP,
            device=name,
            channel="temp",
            quantity="temperature",
            path=f"{directory}/temp",
            label=root.parse(f"{directory}/type", parse_text, SUBJECT, may_be_silent=True),
            limits=limits,
        )


def _energy(root: Root) -> Iterator[Sensor]:
    for name in root.names("sys/class/powercap"):
        directory = f"sys/class/powercap/{name}"
        if not root.exists(f"{directory}/energy_uj"):
            continue
        # since Linux 5.10 only the administrator may read it
        if root.parse(f"{directory}/energy_uj", parse_number, "energy of the processor") is None:
            continue
        yield Sensor(
            chip=ENERGY_CHIP,
            device=name,
            channel="energy",
            quantity="energy",
            path=f"{directory}/energy_uj",
            label=root.parse(f"{directory}/name", parse_text, SUBJECT, may_be_silent=True),
            wraps_at=root.parse(
                f"{directory}/max_energy_range_uj", parse_number, SUBJECT, may_be_silent=True
            ),
        )


def _natural(name: str) -> list[tuple[int, str]]:
    return [
        (int(part or 0), "") if part.isdigit() else (0, part) for part in re.split(r"(\d+)", name)
    ]
