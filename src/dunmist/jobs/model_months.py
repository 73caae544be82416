"""Months of a model computer as hourly sums: weekdays, holidays, seasons, updates, and what drifts.

Nothing is sampled: the sums are made directly, with the truth about what drifts and since when.
Figures of a day differ from day to day, and days are a little like the day before.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field
from math import cos, pi
from typing import Literal, NamedTuple

import numpy as np

from dunmist.history import (
    DAY_S,
    HOUR_S,
    ApplicationSum,
    DiskSum,
    Event,
    HeatSum,
    Level,
    Period,
    ResourceSum,
)

Drifting = Literal["memory", "cooling", "start", "disk", "battery", "storage"]
MIB, GIB = 1 << 20, 1 << 30
PARTITION = "sda1"
# how much a day is like the one before
ALIKE = 0.4
ROOM_CELSIUS, SEASON_K, BASE_K = 21.0, 3.0, 18.0
WORK_HOURS = range(8, 18)
WEEKEND_USE = 0.25
MOVING = ("disk", "cooling", "start")
LOADS = (0.05, 0.3, 0.6, 0.95)  # of all CPUs, a quarter of an hour each


class Program(NamedTuple):
    """A program of the computer; what differs from day to day is a share."""

    name: str
    cores: float  # while people work
    memory_bytes: float
    varies: float = 0.04
    is_service: bool = False  # it is there day and night
    disk_bytes_per_s: float = 0.0
    network_bytes_per_s: float = 0.0
    from_day: int = 0


PROGRAMS = (
    Program("nestcam-index", 0.6, 420 * MIB, 0.05, disk_bytes_per_s=1.5e6),
    Program("plumage-catalogue", 0.3, 760 * MIB, 0.06),
    Program("ring-recovery", 0.25, 240 * MIB, disk_bytes_per_s=4e5),
    Program("mail-lantern", 0.05, 180 * MIB, 0.05, network_bytes_per_s=2e4),
    Program("cliff-desktop", 0.08, 210 * MIB, 0.03),
    Program("tide-gridder", 0.06, 160 * MIB, 0.02, is_service=True),
    Program("weather-mast", 0.01, 24 * MIB, 0.01, is_service=True),
    Program("station-journal", 0.02, 120 * MIB, 0.03, is_service=True),
    Program("cove-network", 0.01, 60 * MIB, 0.01, is_service=True),
)


class Rise(NamedTuple):
    """A drift: its factor within eight weeks, and its first day."""

    what: Drifting
    name: str
    from_day: int
    factor: float = 2.0

    def at(self, day: int) -> float:
        """Return the factor of the figure on a day."""
        return 1.0 + (self.factor - 1.0) * max(0.0, day - self.from_day) / 56.0


@dataclass(slots=True)
class _Today:
    """State of a model computer on a day."""

    random: np.random.Generator
    levels: dict[str, float]  # of the memory of programs, since their last update
    moved: dict[str, float]  # by how many standard deviations figures are off
    day: int = 0
    used_bytes: float = 0.0
    disk_step: float = 1.0


@dataclass(frozen=True, slots=True)
class Months:
    """A model computer over some time."""

    days: int
    seed: int = 0
    began_day: int = 22_000  # local date, since 1970
    offset_s: int = 0
    cpus: int = 8
    memory_bytes: int = 8 * GIB
    disk_bytes: float = 240.0 * GIB
    used_bytes: float = 120.0 * GIB
    grows_bytes: float = 0.05 * GIB  # of the file system, a day
    programs: tuple[Program, ...] = PROGRAMS
    rises: tuple[Rise, ...] = ()
    # shares of days: on which nobody records, on which an update changes a program's memory
    gaps: float = 0.08
    updates: float = 0.01
    holiday: tuple[int, int] | None = None  # first day, and how many
    events: list[Event] = field(default_factory=list)

    def periods(self, hours: tuple[int, ...] = tuple(range(24))) -> Iterator[Period]:
        """Yield the hours of all recorded days, the oldest first; what happened goes to events."""
        random = np.random.default_rng(self.seed)
        levels = {program.name: 1.0 for program in self.programs}
        today = _Today(random, levels, dict.fromkeys((*levels, *MOVING), 0.0))
        for day in range(self.days):
            today.day = day
            for name, before in today.moved.items():
                today.moved[name] = ALIKE * before + random.normal() * (1 - ALIKE**2) ** 0.5
            for program in self.programs:
                if random.random() < self.updates:
                    step = float(np.exp(random.normal() * 0.15))
                    levels[program.name] *= step
                    if abs(step - 1) > 0.02:
                        at_s = float((self.began_day + day) * DAY_S - self.offset_s + 4 * HOUR_S)
                        self.events.append(Event(at_s, "change", f"{program.name} 2.{day}"))
            if random.random() < self.updates / 4:
                today.disk_step *= float(np.exp(random.normal() * 0.3))
            grown = self._grown(day) * float(random.gamma(4.0, 0.25))
            today.used_bytes = min(self.disk_bytes, (today.used_bytes or self.used_bytes) + grown)
            if random.random() < self.gaps or self._is_holiday(day):
                continue
            # when the computer is switched on
            start_s = 31.0 * self._factor("start", "", day) * (1 + 0.04 * today.moved["start"])
            at_s = float((self.began_day + day) * DAY_S - self.offset_s + 7.6 * HOUR_S)
            self.events.append(Event(at_s, "start", "start", start_s))
            for hour in hours:
                yield self._hour(today, hour)

    def _grown(self, day: int) -> float:
        rises = [rise for rise in self.rises if rise.what == "storage" and day >= rise.from_day]
        # a file system that drifts is full eight weeks after
        return (self.disk_bytes - self.used_bytes) / 56.0 if rises else self.grows_bytes

    def _is_holiday(self, day: int) -> bool:
        return self.holiday is not None and 0 <= day - self.holiday[0] < self.holiday[1]

    def _factor(self, what: Drifting, name: str, day: int) -> float:
        factor = 1.0
        for rise in self.rises:
            if rise.what == what and rise.name == name:
                factor *= rise.at(day)
        return factor

    def _hour(self, today: "_Today", hour: int) -> Period:
        day = today.day
        date = self.began_day + day
        period = Period(date * DAY_S + hour * HOUR_S - self.offset_s, HOUR_S, self.offset_s)
        period.sampled_s, period.cpus = float(HOUR_S), self.cpus
        period.memory_bytes = self.memory_bytes
        works = hour in WORK_HOURS
        use = (1.0 if works else 0.05) * (WEEKEND_USE if period.is_weekend else 1.0)
        cores = 0.0
        for program in self.programs:
            if day < program.from_day or not (works or program.is_service):
                continue
            each = self._program(program, today, use)
            period.applications[program.name] = each
            cores += each.cpu_s / HOUR_S
        self._resources(period, cores, today.random)
        self._heat(period, today, use)
        wait_s = 0.004 * today.disk_step * self._factor("disk", "sda", day)
        requests = 40_000.0 * use
        period.disks["sda"] = DiskSum(
            requests, requests * wait_s * float(np.exp(0.05 * today.moved["disk"]))
        )
        period.levels["storage", PARTITION] = Level(
            "storage", PARTITION, today.used_bytes, self.disk_bytes
        )
        fades = 1.0 - 8e-5 * day
        for rise in self.rises:
            if rise.what == "battery" and day >= rise.from_day:
                fades -= (day - rise.from_day) * 0.5 / 56.0
        # a gauge is read in whole percents
        full = round(100 * max(0.05, fades)) / 100
        period.levels["battery", "BAT0"] = Level("battery", "BAT0", 5e7 * full, 5e7)
        return period

    def _program(self, program: Program, today: "_Today", use: float) -> ApplicationSum:
        random = today.random
        varies = float(np.exp(program.varies * today.moved[program.name]))
        own = program.memory_bytes * today.levels[program.name] * varies
        own *= self._factor("memory", program.name, today.day)
        own *= float(np.exp(0.02 * random.normal()))
        busy = use * float(random.gamma(3.0, 1 / 3))
        return ApplicationSum(
            cpu_s=program.cores * busy * HOUR_S,
            memory_byte_s=own * HOUR_S,
            memory_s=HOUR_S,
            memory_peak_bytes=own * 1.2,
            disk_bytes=program.disk_bytes_per_s * busy * HOUR_S,
            network_bytes=program.network_bytes_per_s * busy * HOUR_S,
        )

    def _resources(self, period: Period, cores: float, random: np.random.Generator) -> None:
        held = sum(each.memory_byte_s for each in period.applications.values()) / HOUR_S
        share = min(0.98, 0.12 + held / self.memory_bytes)
        short = max(0.0, share - 0.85)
        cpu = min(1.0, cores / self.cpus)
        for name, used, waits in (
            ("cpu", cpu, max(0.0, cpu - 0.6)),
            ("memory", share, short),
            ("disk sda", min(1.0, 0.02 + 0.05 * float(random.gamma(2.0, 0.5))), 0.01),
            ("link wlp4s0", 0.005, None),
        ):
            each = period.resources.setdefault(name, ResourceSum())
            each.take(used, waits, HOUR_S)

    def _heat(self, period: Period, today: "_Today", use: float) -> None:
        season = SEASON_K * cos(2 * pi * (period.local_day % 365) / 365.0)
        k_per_core = 4.5 * self._factor("cooling", "", today.day)
        k_per_core *= 1 + 0.02 * today.moved["cooling"]
        heat, quarter_s = HeatSum(), HOUR_S / len(LOADS)
        for load in LOADS:
            cores = load * use * self.cpus
            celsius = ROOM_CELSIUS - season + BASE_K + k_per_core * cores
            heat.load_s += quarter_s
            heat.load_core_s += cores * quarter_s
            heat.load_celsius_s += celsius * quarter_s
            heat.load_core2_s += cores * cores * quarter_s
            heat.load_core_celsius_s += cores * celsius * quarter_s
            if load * use >= 0.5:
                heat.busy_s += quarter_s
                heat.busy_celsius_s += celsius * quarter_s
            elif load * use <= 0.1:
                heat.rest_s += quarter_s
                heat.rest_celsius_s += celsius * quarter_s
        heat.energy_j = (6.0 + 5.0 * heat.load_core_s / HOUR_S) * HOUR_S
        heat.energy_s = HOUR_S
        period.heat = heat
        cpu_s = sum(each.cpu_s for each in period.applications.values())
        for each in period.applications.values():
            each.energy_j = heat.energy_j * each.cpu_s / cpu_s if cpu_s else 0.0
