"""Adds up what is sampled, hour by hour: follows the records of a recorder or of a capture.

It runs in the recorder for months, so a tick costs it little: only changes are read,
and memory once a minute.
"""

from collections.abc import Callable
from datetime import datetime
from math import fsum
from typing import NamedTuple

from dunmist.applications import Grouping
from dunmist.captures import Header
from dunmist.computer import Machine
from dunmist.computer.sensor_choice import part_of
from dunmist.history.sums import (
    HOUR_S,
    KERNEL,
    ApplicationSum,
    DiskSum,
    Event,
    Level,
    Period,
    ResourceSum,
)
from dunmist.recorder import CpuTemperature, Known, SocketOwners, lost_clock
from dunmist.sampling import Event as SampledEvent
from dunmist.sampling import ProcessLine, Record, SocketLine, Survey, Tick
from dunmist.sampling.deltas import Interval
from dunmist.thresholds import Thresholds

MEMORY_EVERY_S = 60.0
# the clock on the wall was set where it moves otherwise than the monotonic one by more than this
CLOCK_SET_S = 10.0
# of all CPUs in use
BUSY_LEAST, REST_MOST = 0.5, 0.1
BITS, KIB, US, NS = 8.0, 1024.0, 1e6, 1e9
# kinds of change that may explain a drift, in addition to packages
PACKAGES = ("installed", "upgraded", "removed")
OTHER_CHANGES = ("kernel", "firmware")


class Wall(NamedTuple):
    """Wall-clock time at a tick, and the offset of its zone from UTC."""

    at_s: float
    offset_s: int


def wall_of(local_time: datetime) -> Wall:
    """Return a time with its zone in numbers."""
    offset = local_time.utcoffset()
    return Wall(local_time.timestamp(), round(offset.total_seconds()) if offset else 0)


class Summing:
    """Follows a run. ``take`` gives what was added up since it was taken last."""

    def __init__(self, header: Header, known: Callable[[], Known], limits: Thresholds) -> None:
        machine, inventory = header.machine, header.inventory
        self._machine, self._known, self._limits = machine, known, limits
        self._grouping = Grouping(header.observer)
        self._owners = SocketOwners()
        self._temperature = CpuTemperature(header)
        self._max_khz = {cpu.number: cpu.max_khz for cpu in machine.processors}
        self._speeds = {
            link.name: link.speed_bits_per_s for link in inventory.links if link.speed_bits_per_s
        }
        self._physical = frozenset(disk.name for disk in inventory.disks if not disk.disks_below)
        # the first, as in the triage: packages and their parts are counted apart
        counters = (
            index
            for index, sensor in enumerate(inventory.sensors)
            if sensor.quantity == "energy" and part_of(sensor.chip) == "processor"
        )
        self._energy = next(counters, None)
        self._energy_uj: tuple[float, int] | None = None
        self._memory_at_s: float | None = None
        self._before: tuple[float, Wall] | None = None
        self._periods: dict[int, Period] = {}
        self._events: list[Event] = []

    def add(self, record: Record, interval: Interval | None, wall: Wall) -> None:
        """Take a record, and the interval that ended with a tick."""
        if isinstance(record, ProcessLine):
            self._grouping.add(record.id, record.facts)
        elif isinstance(record, SocketLine):
            self._owners.add(record)
        elif isinstance(record, SampledEvent):
            if record.facts is not None and record.processes:
                self._grouping.replace(record.processes[0], record.facts)
        elif isinstance(record, Survey):
            self._add_survey(record, wall)
        elif isinstance(record, Tick):
            self._add_tick(record, interval, wall)

    def take(self) -> tuple[list[Period], list[Event]]:
        """Return the sums since the last call, and begin anew."""
        periods, events = list(self._periods.values()), self._events
        for period in periods:
            _share_energy(period)
            period.without_small_ones()
        self._periods, self._events = {}, []
        return periods, events

    def _period(self, wall: Wall) -> Period:
        # local hours: a zone may be half an hour off
        began_s = int((wall.at_s + wall.offset_s) // HOUR_S * HOUR_S) - wall.offset_s
        period = self._periods.get(began_s)
        if period is None:
            period = self._periods[began_s] = Period(began_s, HOUR_S, wall.offset_s)
            period.cpus = len(self._machine.processors)
        return period

    def _add_tick(self, tick: Tick, interval: Interval | None, wall: Wall) -> None:
        self._owners.read(tick)
        self._temperature.read(tick)
        period = self._period(wall)
        before, self._before = self._before, (tick.at_s, wall)
        if before is not None:
            moved_s = (wall.at_s - before[1].at_s) - (tick.at_s - before[0])
            if abs(moved_s) > CLOCK_SET_S:
                earlier = self._period(before[1])
                earlier.clock_set += 1
                period.clock_set += 0 if period is earlier else 1
        if interval is not None:
            period.sampled_s += interval.span_s
            self._add_programs(period, tick, interval)
            self._add_resources(period, tick, interval)
            self._add_heat(period, tick, interval)
        for supply in tick.supplies:
            now, design = (
                (supply.energy_full, supply.energy_full_design)
                if supply.energy_full is not None
                else (supply.charge_full, supply.charge_full_design)
            )
            if now and design:
                level = Level("battery", supply.name, float(now), float(design))
                period.levels["battery", supply.name] = level
        self._owners.forget(tick)

    def _name(self, identity: int) -> str | None:
        number = self._grouping.application_of.get(identity)
        if number is None:
            return None
        group = self._grouping.groups[number]
        return KERNEL if group.kernel else group.name

    def _add_programs(self, period: Period, tick: Tick, interval: Interval) -> None:
        applications, span_s = period.applications, interval.span_s
        for identity, use in interval.processes.items():
            if not use.cores and not use.disk_bytes_per_s:
                continue
            name = self._name(identity)
            if name is not None:
                each = applications.setdefault(name, ApplicationSum())
                each.cpu_s += (use.cores or 0.0) * span_s
                each.disk_bytes += use.disk_bytes_per_s * span_s
        for owner, bytes_per_s in self._owners.moved(interval).items():
            name = self._name(owner)
            if bytes_per_s and name is not None:
                each = applications.setdefault(name, ApplicationSum())
                each.network_bytes += bytes_per_s * span_s
        # a process that exited between two ticks belongs to neither
        for ended in tick.exits:
            if ended.process is not None or ended.parent is None:
                continue
            name = self._name(ended.parent)
            if name is not None:
                each = applications.setdefault(name, ApplicationSum())
                each.cpu_s += ended.run_ns / NS
                each.disk_bytes += ended.read_bytes + ended.write_bytes
        since_s = self._memory_at_s
        if since_s is None or tick.at_s - since_s >= MEMORY_EVERY_S:
            self._memory_at_s = tick.at_s
            self._add_memory(period, interval.span_s if since_s is None else tick.at_s - since_s)

    def _add_memory(self, period: Period, span_s: float) -> None:
        """Count the memory of all programs for the time since it was counted last."""
        page_bytes = self._machine.page_bytes
        held_bytes: dict[str, int] = {}
        for line, sample in self._known().states():
            name = None if line.facts.kernel else self._name(line.id)
            if name is not None:
                own_pages = max(0, sample.rss_pages - (sample.shared_pages or 0))
                held_bytes[name] = held_bytes.get(name, 0) + own_pages * page_bytes
        for name, held in held_bytes.items():
            each = period.applications.setdefault(name, ApplicationSum())
            each.memory_byte_s += held * span_s
            each.memory_s += span_s
            each.memory_peak_bytes = max(each.memory_peak_bytes, held)

    def _add_resources(self, period: Period, tick: Tick, interval: Interval) -> None:
        span_s, stalled = interval.span_s, interval.stalled
        resources = period.resources
        if interval.cpus:
            used = interval.busy_cores / len(interval.cpus)
            resources.setdefault("cpu", ResourceSum()).take(used, stalled.get("cpu"), span_s)
        memory = tick.memory or {}
        total = memory.get("MemTotal", 0)
        if total:
            period.memory_bytes = int(total * KIB)
            used = 1 - memory.get("MemAvailable", memory.get("MemFree", 0)) / total
            resources.setdefault("memory", ResourceSum()).take(used, stalled.get("memory"), span_s)
            swap = memory.get("SwapTotal", 0)
            if swap:
                used = 1 - memory.get("SwapFree", 0) / swap
                resources.setdefault("swap", ResourceSum()).take(used, None, span_s)
        for name in self._physical:
            use = interval.disks.get(name)
            busy = 0.0 if use is None else use.busy
            resources.setdefault(f"disk {name}", ResourceSum()).take(
                busy, stalled.get("io"), span_s
            )
            if use is not None and use.requests_per_s and use.queue is not None:
                disk = period.disks.setdefault(name, DiskSum())
                disk.requests += use.requests_per_s * span_s
                disk.request_s += use.queue * span_s
        for name, speed in self._speeds.items():
            link = interval.links.get(name)
            moved = 0.0 if link is None else link.fuller_bytes_per_s
            used_share = None if moved is None else BITS * moved / speed
            resources.setdefault(f"link {name}", ResourceSum()).take(used_share, None, span_s)

    def _add_heat(self, period: Period, tick: Tick, interval: Interval) -> None:
        heat, span_s, cores = period.heat, interval.span_s, interval.busy_cores
        heat.throttles += interval.throttles
        if tick.clocks_khz:
            lost = lost_clock(tick, interval, self._max_khz, self._limits.heat)
            heat.lost_clock_s += lost * span_s
            heat.clock_s += span_s
        joules, over_s = self._energy_since(tick)
        heat.energy_j += joules
        heat.energy_s += over_s
        celsius = max((celsius for celsius, _ in self._temperature.all()), default=None)
        if celsius is None or not interval.cpus:
            return
        heat.load_s += span_s
        heat.load_core_s += cores * span_s
        heat.load_celsius_s += celsius * span_s
        heat.load_core2_s += cores * cores * span_s
        heat.load_core_celsius_s += cores * celsius * span_s
        used = cores / len(interval.cpus)
        if used >= BUSY_LEAST:
            heat.busy_s += span_s
            heat.busy_celsius_s += celsius * span_s
        elif used <= REST_MOST:
            heat.rest_s += span_s
            heat.rest_celsius_s += celsius * span_s

    def _energy_since(self, tick: Tick) -> tuple[float, float]:
        """Return the energy of the CPUs since the reading before, and its span."""
        joules, over_s = 0.0, 0.0
        for index, raw in tick.sensors:
            if index != self._energy or raw is None:
                continue
            before, self._energy_uj = self._energy_uj, (tick.at_s, raw)
            # a counter that went back was reset or wrapped
            if before is not None and raw >= before[1]:
                joules = (raw - before[1]) / US
                over_s = tick.at_s - before[0]
        return joules, over_s

    def _add_survey(self, survey: Survey, wall: Wall) -> None:
        period = self._period(wall)
        for system in survey.file_systems:
            device = system.source.rpartition("/")[2]
            whole, free = system.size_bytes, system.available_bytes
            # a mount without a device fills no disk, and a read-only one does not fill
            if not system.source.startswith("/dev/") or system.read_only or not whole:
                continue
            if free is not None:
                level = Level("storage", device, float(whole - free), float(whole))
                period.levels["storage", device] = level
        self._events += events_of(survey, self._machine)


def events_of(survey: Survey, machine: Machine) -> list[Event]:
    """Return the changes and the start that a survey tells of."""
    events = []
    for change in survey.changes:
        if change.kind in PACKAGES:
            words = [change.what, *([change.old, "to"] if change.old else [])]
            name = " ".join([*words, change.new or "removed"])
            events.append(Event(change.at_s, "change", name))
        elif change.kind in OTHER_CHANGES:
            name = f"{change.kind} {change.new or change.old or ''}".strip()
            events.append(Event(change.at_s, "change", name))
    if survey.boot is not None and machine.boot_time_s is not None:
        whole_s = survey.boot.whole_s
        if whole_s is not None:
            events.append(Event(float(machine.boot_time_s), "start", "start", whole_s))
    return events


def _share_energy(period: Period) -> None:
    """Give each program its part of the energy, by CPU time."""
    cpu_s = fsum(each.cpu_s for each in period.applications.values())
    if cpu_s > 0 and period.heat.energy_j > 0:
        for each in period.applications.values():
            each.energy_j = period.heat.energy_j * each.cpu_s / cpu_s
