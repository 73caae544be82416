"""All that is read at a tick: the table of sources, and the computer that they read.

``SOURCES`` is the one place where a source of a tick is declared. What stands still for half a
minute is in ``survey``; what never changes is read once, into the header's inventory.
"""

import os
import time
from collections.abc import Callable
from functools import cached_property
from pathlib import Path
from typing import NamedTuple

from dunmist.computer import (
    SLOW_CHIPS,
    ControlGroups,
    GroupSample,
    Inventory,
    Machine,
    ParseError,
    ProcessorTimes,
    Root,
    find_pressure,
    find_throttling,
    find_zram,
    is_disk,
    open_task_exits,
    parse_diskstats,
    parse_interrupts,
    parse_loadavg,
    parse_meminfo,
    parse_net_dev,
    parse_stat,
    parse_statm,
    parse_tcp_counters,
    parse_uptime,
    parse_vmstat,
    read_clocks_khz,
    read_graphics,
    read_power_supplies,
    read_pressure,
    read_reading,
    read_throttling,
    read_zram_bytes,
)
from dunmist.errors import UnreadableComputer
from dunmist.sampling.exits import sum_exits
from dunmist.sampling.pace import Due, Plan
from dunmist.sampling.process_table import ProcessRound, ProcessTable
from dunmist.sampling.records import Tick
from dunmist.sampling.registry import Cadence, Changes, Source
from dunmist.sampling.socket_table import SocketRound, SocketTable

GROUPS_MOST = 64
TCP_FILES = ("proc/net/snmp", "proc/net/netstat")


class Round(NamedTuple):
    """What one tick found: the tick itself, and what appeared and went with it."""

    tick: Tick
    processes: ProcessRound
    sockets: SocketRound


class Sources:
    """Everything that is read of one computer, tick by tick; it keeps open what it can."""

    def __init__(self, root: Root, machine: Machine, inventory: Inventory) -> None:
        numbers = [one.number for one in machine.processors]
        self.root = root
        self.inventory = inventory
        self.table = ProcessTable(root, machine.clock_ticks_per_s)
        self.sockets = SocketTable(root)
        self.exits = open_task_exits(root, max(numbers) + 1)
        self.groups = ControlGroups(root)
        self.quotas: dict[str, float | None] = {}
        self.pressure = find_pressure(root)
        self.has_clocks = any(processor.max_khz for processor in machine.processors)
        self.throttling = find_throttling(root, numbers)
        self.zram = find_zram(root)
        self._cadence = Cadence()
        self._changes = Changes()

    def read(self, due: Due, plan: Plan, elapsed_s: float) -> Round:
        """Read everything that is due; raises UnreadableComputer without processor times."""
        began_s = time.perf_counter()
        reading = Reading(self, due, elapsed_s, is_last=due.number >= plan.intervals)
        fields: dict[str, object] = {}
        for source in SOURCES:
            if source.every_s and not self._is_due(source, reading):
                continue
            for name, value in zip(source.fields, source.read(reading), strict=True):
                kept = value if source.keeps == "all" else self._changes.of(source, value)
                before = fields.get(name)
                fields[name] = [*before, *kept] if before else kept  # type: ignore[misc]
        tick = Tick(
            n=due.number,
            due_s=round(due.due_s, 6),
            at_s=round(due.at_s, 6),
            late=due.is_late(plan.every_s),
            took_s=round(time.perf_counter() - began_s, 6),
            **fields,  # type: ignore[arg-type]  # a test holds each field against its source
        )
        return Round(tick, reading.processes, reading.found_sockets)

    def is_due(self, name: str, every_s: float, reading: "Reading") -> bool:
        """Say whether a part of a source is due that is read more seldom than the rest of it."""
        return self._cadence.is_due(name, every_s, reading.due.at_s, last=reading.is_last)

    def _is_due(self, source: Source["Reading"], reading: "Reading") -> bool:
        at_s = reading.due.at_s
        return self._cadence.is_due(source.subject, source.every_s, at_s, last=reading.is_last)

    def meanwhile(self) -> None:
        """Take what the kernel sends between ticks, before its buffer overflows."""
        if self.exits:
            self.exits.gather()

    def close(self) -> None:
        """Close everything that was kept open, and note what was lost."""
        self.table.close()
        self.sockets.close()
        if self.exits:
            if self.exits.lost:
                self.root.note("ends of short-lived processes", "overflow")
            if self.exits.garbled:
                self.root.note("ends of short-lived processes", "garbled")
            self.exits.close()


class Reading:
    """One tick being read. What several sources need is read once, when the first one asks."""

    def __init__(self, computer: Sources, due: Due, elapsed_s: float, *, is_last: bool) -> None:
        self.computer, self.due, self.is_last = computer, due, is_last
        self._elapsed_s = elapsed_s

    @property
    def root(self) -> Root:
        """The computer's root."""
        return self.computer.root

    @cached_property
    def times(self) -> ProcessorTimes:
        """The times of the processors; raises UnreadableComputer."""
        try:
            return parse_stat(self.root.read_again("proc/stat"))
        except ParseError as error:
            raise UnreadableComputer(
                f"{error}; a computer cannot be sampled without processor times"
            ) from error

    @cached_property
    def processes(self) -> ProcessRound:
        """All processes, with the owners of sockets that appeared meanwhile."""
        found = self.computer.table.look(self._elapsed_s, all_details=self.is_last)
        if self.due.number and any(facts.inode for _, facts in self.found_sockets.appeared):
            self.computer.table.owners_wanted(found)
        return found

    @cached_property
    def found_sockets(self) -> SocketRound:
        """All sockets: TCP at each tick, the other kinds seldom."""
        return self.computer.sockets.look(
            all_kinds=self.computer.is_due("all sockets", ALL_SOCKETS_S, self)
        )


SENSORS_S, SLOW_SENSORS_S, SELDOM_S, ALL_SOCKETS_S = 1.0, 30.0, 10.0, 10.0


def _processes(reading: Reading) -> tuple[object, ...]:
    # what ended is taken first: an end that comes later belongs to the next tick
    exits = reading.computer.exits.drain() if reading.computer.exits else []
    found = reading.processes
    return (
        found.alive,
        found.samples,
        found.threads,
        found.details,
        found.graphics,
        sum_exits(exits, reading.computer.table, found),
    )


def _sockets(reading: Reading) -> tuple[object, ...]:
    return reading.found_sockets.samples, reading.found_sockets.ended


def _clocks(reading: Reading) -> tuple[object, ...]:
    if not reading.computer.has_clocks:
        return (None,)
    return (read_clocks_khz(reading.root, sorted(reading.times.times_clk)),)


def _file(
    name: str, parser: Callable[[bytes], object], subject: str
) -> Callable[[Reading], tuple[object, ...]]:
    """Return the reader of one file that stays open; None goes into the tick where it fails."""
    return lambda reading: (reading.root.parse(name, parser, subject, again=True),)


def _disks(reading: Reading) -> tuple[object, ...]:
    samples = reading.root.parse("proc/diskstats", parse_diskstats, "disks", again=True) or []
    return ([sample for sample in samples if is_disk(sample.name)],)


def _links(reading: Reading) -> tuple[object, ...]:
    return (reading.root.parse("proc/net/dev", parse_net_dev, "network links", again=True) or [],)


def _tcp(reading: Reading) -> tuple[object, ...]:
    words: dict[str, int] = {}
    for name in TCP_FILES:
        words |= reading.root.parse(name, parse_tcp_counters, "counters of TCP", again=True) or {}
    return (words,)


def _sensors(reading: Reading) -> tuple[object, ...]:
    sensors = reading.computer.inventory.sensors
    slow = bool(sensors) and reading.computer.is_due("slow sensors", SLOW_SENSORS_S, reading)
    return (
        [
            (place, read_reading(reading.root, sensor))
            for place, sensor in enumerate(sensors)
            if slow or sensor.chip not in SLOW_CHIPS
        ],
    )


def _interrupts(reading: Reading) -> tuple[object, ...]:
    counts = reading.root.parse(
        "proc/interrupts", parse_interrupts, "interrupts by source", again=True
    )
    return (counts or {},)


def _groups(reading: Reading) -> tuple[object, ...]:
    """Give the groups of the busiest processes, and every group seen that has a quota."""
    busiest, quotas, groups = (
        reading.processes.groups, reading.computer.quotas, reading.computer.groups
    )  # fmt: skip
    for path in busiest:
        if path not in quotas and len(quotas) < GROUPS_MOST:
            quotas[path] = groups.quota_cores(path)
    limited = [path for path, quota in quotas.items() if quota is not None]
    wanted = dict.fromkeys([*busiest, *limited])
    samples = (groups.read(path, quotas.get(path)) for path in wanted)
    found: list[GroupSample] = [sample for sample in samples if sample]
    return (found,)


# in the order in which they are read: what runs away first comes first
SOURCES: tuple[Source[Reading], ...] = (
    Source(("processors",), "processors", lambda reading: (reading.times,)),
    Source(
        ("alive", "processes", "threads", "details", "graphics_use", "exits"),
        "processes",
        _processes,
    ),
    Source(("sockets", "sockets_ended"), "sockets", _sockets),
    Source(("clocks_khz",), "clock frequency", _clocks),
    Source(("load",), "load average", _file("proc/loadavg", parse_loadavg, "load average")),
    Source(("uptime_s",), "uptime", _file("proc/uptime", parse_uptime, "uptime")),
    Source(
        ("pressure",),
        "pressure-stall accounting",
        lambda reading: (read_pressure(reading.root, reading.computer.pressure),),
    ),
    Source(("memory",), "memory", _file("proc/meminfo", parse_meminfo, "memory")),
    Source(("paging",), "paging counters", _file("proc/vmstat", parse_vmstat, "paging counters")),
    Source(("disks",), "disks", _disks, keeps="changes", key=lambda one: one.name),
    Source(("links",), "network links", _links, keeps="changes", key=lambda one: one.name),
    Source(("tcp",), "counters of TCP", _tcp, keeps="changes"),
    Source(
        ("sensors",),
        "sensors",
        _sensors,
        every_s=SENSORS_S,
        keeps="changes",
        key=lambda one: one[0],
    ),
    Source(
        ("throttles",),
        "throttle counts",
        lambda reading: (read_throttling(reading.root, reading.computer.throttling),),
        keeps="changes",
        key=lambda one: one.processor,
    ),
    Source(
        ("supplies",),
        "power supplies",
        lambda reading: (read_power_supplies(reading.root),),
        every_s=SELDOM_S,
    ),
    Source(
        ("graphics",),
        "graphics",
        lambda reading: (read_graphics(reading.root, reading.computer.inventory.cards),),
        every_s=SENSORS_S,
    ),
    Source(("groups",), "control groups", _groups, keeps="changes", key=lambda one: one.path),
    Source(("interrupts",), "interrupts by source", _interrupts, every_s=SELDOM_S, keeps="changes"),
    Source(
        ("zram_bytes",),
        "compressed swap",
        lambda reading: (read_zram_bytes(reading.root, reading.computer.zram),),
    ),
    Source(
        ("own_cpu_s", "own_rss_bytes"),
        "own use",
        lambda reading: (round(time.process_time(), 4), own_rss_bytes()),
    ),
)


def own_rss_bytes() -> int | None:
    """Return this program's resident set, from the running system whatever the root is."""
    try:
        memory = parse_statm(Path("/proc/self/statm").read_bytes())
    except (OSError, ParseError):
        return None
    return memory.resident * os.sysconf("SC_PAGE_SIZE")
