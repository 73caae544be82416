"""Compute the live state of each resource: use, pressure and level.

The levels are those of the triage, of one interval each (``thresholds.levels``). What lasts is
judged from a capture.
"""

from collections import deque
from math import nan
from typing import Literal, NamedTuple

from dunmist.captures import Header
from dunmist.recorder.cpu_temperature import CpuTemperature, lost_clock
from dunmist.recorder.latest_state import Known
from dunmist.sampling import Tick
from dunmist.sampling.deltas import NOTHING, STEAL, Interval
from dunmist.thresholds import Thresholds
from dunmist.thresholds.levels import (
    WAITING_LEAST,
    LevelWord,
    Reading,
    cpu_levels,
    disk_levels,
    heat_levels,
    is_exhausted,
    level_of,
    link_levels,
    memory_levels,
    memory_levels_by_pages,
)

# five minutes at one tick a second
HISTORY = 300
BITS, KIB, HZ_PER_KHZ = 8.0, 1024.0, 1e3
# keeps a quotient finite where nothing was used at all
NOTHING_USED = 1e-9
Name = Literal["cpu", "memory", "disk", "link", "heat"]
NAMES: tuple[Name, ...] = ("cpu", "memory", "disk", "link", "heat")


class Figures(NamedTuple):
    """Figures of a resource in an interval; shares, None if unknown."""

    used: float | None
    held: float | None = None  # share of time in which work waited for it
    level: LevelWord | None = None
    text: str = ""  # which disk or link it is


class Gauge:
    """One resource: shares now and over the last minutes, None if nothing tells."""

    def __init__(self, name: Name) -> None:
        self.name = name
        self.used: deque[float | None] = deque(maxlen=HISTORY)
        self.held: deque[float | None] = deque(maxlen=HISTORY)
        self.level: LevelWord | None = None
        self.text = ""

    def add(self, figures: Figures) -> None:
        """Take what was so in an interval."""
        for kept, share in ((self.used, figures.used), (self.held, figures.held)):
            kept.append(None if share is None else min(max(share, 0.0), 1.0))
        self.level, self.text = figures.level, figures.text


class Gauges:
    """Follows a run and keeps one gauge for each resource, or goes on with those of ``before``."""

    def __init__(
        self, header: Header, limits: Thresholds, before: dict[Name, Gauge] | None = None
    ) -> None:
        self.all: dict[Name, Gauge] = before or {name: Gauge(name) for name in NAMES}
        self.celsius: float | None = None
        self.clock_hz: float | None = None
        self._header = header
        self._limits = limits
        self._disks: dict[str, None] = {}
        self._speeds = {
            link.name: link.speed_bits_per_s
            for link in header.inventory.links
            if link.speed_bits_per_s
        }
        self._max_khz = {cpu.number: cpu.max_khz for cpu in header.machine.processors}
        self._physical = {disk.name for disk in header.inventory.disks if not disk.disks_below}
        self._temperature = CpuTemperature(header)
        self._queues: deque[tuple[float, float]] = deque(maxlen=HISTORY)
        self._throttled: deque[bool] = deque(maxlen=HISTORY)
        self._bursts: deque[tuple[float, float, float, float]] = deque()
        self._queued: deque[tuple[float, bool]] = deque()

    def read(self, tick: Tick) -> None:
        """Take what is read more seldom than each tick, or only where it changed."""
        self._temperature.read(tick)
        self._disks.update(dict.fromkeys(d.name for d in tick.disks if d.name in self._physical))

    def add(self, tick: Tick, interval: Interval, known: Known) -> None:
        """Take the interval that ended with a tick."""
        self.all["cpu"].add(self._cpu(tick, interval, known))
        self.all["memory"].add(self._memory(tick, interval))
        self.all["disk"].add(self._disk(interval, known))
        self.all["link"].add(self._link(interval, known))
        self.all["heat"].add(self._heat(tick, interval))

    def _cpu(self, tick: Tick, interval: Interval, known: Known) -> Figures:
        cpus = interval.cpus.values()
        # stolen time was never this computer's to give
        left = len(cpus) - sum(cpu.shares[STEAL] for cpu in cpus)
        used = min(1.0, interval.busy_cores / max(left, NOTHING_USED))
        ordinary = everybody = 0.0
        for line, sample in known.states():
            waiting = interval.processes.get(line.id, NOTHING).waiting or 0.0
            everybody += waiting
            # low-priority work gives way to all other
            ordinary += waiting if sample.nice <= 0 else 0.0
        unseen = self._unseen_waiting(tick, len(cpus), everybody)
        ordinary, everybody = ordinary + unseen, everybody + unseen
        stalled = interval.stalled.get("cpu")
        if stalled is None:
            pressure = min(1.0, ordinary)
        else:
            # stall accounting does not know priorities; run-queue delay is known for each process
            part = ordinary / everybody if everybody > WAITING_LEAST else 1.0
            pressure = max(stalled * part, min(stalled, ordinary))
        held_up = ordinary / (ordinary + max(interval.busy_cores, NOTHING_USED))
        readings = Reading(used), Reading(pressure), Reading(held_up)
        return Figures(used, pressure, level_of(cpu_levels(*readings, self._limits.cpu)))

    def _unseen_waiting(self, tick: Tick, cpus: int, seen: float) -> float:
        """Return the mean number of waiting tasks that live too short to be seen."""
        runnable = tick.processors.runnable
        if runnable is None:
            return 0.0
        # the reader of the count is running itself
        own = 1 if self._header.observer else 0
        self._queues.append((max(0, runnable - own), seen))
        # the queue is one sample a tick: only its mean over minutes is steady enough
        queue, waiting = (
            sum(pair[index] for pair in self._queues) / len(self._queues) for index in (0, 1)
        )
        return max(0.0, queue - cpus - waiting)

    def _memory(self, tick: Tick, interval: Interval) -> Figures:
        memory, table = tick.memory or {}, self._limits.memory
        total = memory.get("MemTotal", 0)
        if not total:
            return Figures(None)
        available_kib = memory.get("MemAvailable", memory.get("MemFree", 0))
        available = Reading(available_kib / total)
        used, stalled = Reading(1 - available), interval.stalled.get("memory")
        out, back = (interval.paging_per_s.get(word, 0.0) for word in ("pswpout", "pswpin"))
        # pages are written out in bursts, and those who wait for them wait in bursts
        self._bursts.append((interval.span_s, stalled or 0.0, out, back))
        while sum(span_s for span_s, *_ in self._bursts) - self._bursts[0][0] >= table.burst_s:
            self._bursts.popleft()
        span_s = sum(span_s for span_s, *_ in self._bursts)
        held, out, back = (
            sum(burst[0] * burst[index] for burst in self._bursts) / span_s for index in (1, 2, 3)
        )
        conditions = (
            memory_levels_by_pages(used, available, Reading(out + back), table)
            if stalled is None
            else memory_levels(used, available, Reading(held), Reading(min(out, back)), table)
        )
        left_bytes = KIB * (available_kib + memory.get("SwapFree", 0))
        conditions["strained"] |= is_exhausted(available, Reading(left_bytes), table)
        return Figures(used, None if stalled is None else held, level_of(conditions))

    def _disk(self, interval: Interval, known: Known) -> Figures:
        """Return the busiest disk."""
        stalled = interval.stalled.get("io")
        if stalled is None:
            # without stall accounting: whether anybody waits just now
            waits = (s.state == "D" and not line.facts.kernel for line, s in known.states())
            stalled = 1.0 if any(waits) else 0.0
        busy = {
            name: interval.disks[name].busy if name in interval.disks else 0.0
            for name in self._disks
        }
        published = {name: share for name, share in busy.items() if share is not None}
        if not published:
            return Figures(None, stalled)
        name = max(published, key=lambda name: published[name])
        queue = interval.disks[name].queue if name in interval.disks else 0.0
        readings = (
            Reading(published[name]),
            Reading(nan if queue is None else queue),
            Reading(stalled),
        )
        level = level_of(disk_levels(*readings, self._limits.disk))
        return Figures(published[name], stalled, level, name)

    def _link(self, interval: Interval, known: Known) -> Figures:
        """Return the fullest link of those whose speed is known."""
        table = self._limits.link
        waits = any(queue.waiting_bytes >= table.queued_bytes for queue in known.queues)
        self._queued.append((interval.span_s, waits))
        window_s = table.queue_window_s
        while sum(span_s for span_s, _ in self._queued) - self._queued[0][0] >= window_s:
            self._queued.popleft()
        queued = sum(waited for _, waited in self._queued) / len(self._queued)
        shares = {
            name: BITS * (interval.links[name].fuller_bytes_per_s or 0.0) / speed
            if name in interval.links
            else 0.0
            for name, speed in self._speeds.items()
        }
        if not shares:
            return Figures(None)
        name = max(shares, key=lambda name: shares[name])
        level = level_of(link_levels(Reading(shares[name]), Reading(queued), table))
        return Figures(shares[name], queued if known.queues else None, level, name)

    def _heat(self, tick: Tick, interval: Interval) -> Figures:
        read, table = self._temperature.all(), self._limits.heat
        self.celsius = max((celsius for celsius, _ in read), default=None)
        clocks = [khz for khz in tick.clocks_khz or [] if khz]
        self.clock_hz = HZ_PER_KHZ * sum(clocks) / len(clocks) if clocks else None
        if self.celsius is None:
            return Figures(None)
        _, limit = max(read)
        critical = limit or table.assumed_critical_celsius
        used = (self.celsius - table.room_celsius) / (critical - table.room_celsius)
        lost = lost_clock(tick, interval, self._max_khz, table)
        self._throttled.append(interval.throttles > 0)
        conditions = heat_levels(
            Reading(critical - self.celsius),
            Reading(lost),
            table,
            is_throttled=sum(self._throttled) >= table.throttled_share * len(self._throttled),
        )
        return Figures(used, None, level_of(conditions))
