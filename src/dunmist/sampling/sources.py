"""All that is read at a tick, and how often: one ``Sources`` a capture.

It opens what can be opened once, reads at each tick what is due, and keeps what was read before, so
that only what changed goes on.
"""

import os
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TypeVar

from dunmist.computer import (
    SLOW_CHIPS,
    ControlGroups,
    DiskSample,
    GroupSample,
    Inventory,
    LinkSample,
    Machine,
    ParseError,
    ProcessorTimes,
    ProcessTable,
    Root,
    Round,
    SocketRound,
    SocketTable,
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
from dunmist.sampling.cadence import Cadence
from dunmist.sampling.exits import sum_exits
from dunmist.sampling.pace import Due
from dunmist.sampling.plan import Plan
from dunmist.sampling.records import Tick

Key = TypeVar("Key")
Value = TypeVar("Value")
GROUPS_MOST = 64


class Look:
    """What one tick found: the tick itself, and what appeared and went with it."""

    __slots__ = ("found", "sockets", "tick")

    def __init__(self, tick: Tick, found: Round, sockets: SocketRound) -> None:
        self.tick = tick
        self.found = found
        self.sockets = sockets


class Sources:
    """Everything that is read of one computer, tick by tick."""

    def __init__(self, root: Root, machine: Machine, inventory: Inventory) -> None:
        self.root = root
        self.table = ProcessTable(root, machine.clock_ticks_per_s)
        self._inventory = inventory
        self._exits = open_task_exits(root, max(one.number for one in machine.processors) + 1)
        self._sockets = SocketTable(root)
        self._groups = ControlGroups(root)
        self._quotas: dict[str, float | None] = {}
        self._pressure = find_pressure(root)
        self._has_clocks = any(processor.max_khz for processor in machine.processors)
        numbers = [one.number for one in machine.processors]
        self._throttling = find_throttling(root, numbers)
        self._zram = find_zram(root)
        self._cadence = Cadence()
        self._before: dict[str, dict[object, object]] = {}

    def look(self, due: Due, plan: Plan, elapsed_s: float) -> Look:
        """Read everything once; raises UnreadableComputer when there are no processor times."""
        root, at_s, last = self.root, due.at_s, due.number >= plan.intervals
        began_s = time.perf_counter()
        times = _read_times(root)
        exits = self._exits.drain() if self._exits else []
        found = self.table.look(elapsed_s, all_details=last)
        all_kinds = self._cadence.is_due("all sockets", at_s, last=last)
        sockets = self._sockets.look(all_kinds=all_kinds)
        if due.number and any(facts.inode for _, facts in sockets.appeared):
            self.table.owners_wanted(found)
        online = sorted(times.times_clk)
        cards = self._inventory.cards
        with_cards = bool(cards) and self._cadence.is_due("graphics", at_s, last=last)
        tick = Tick(
            n=due.number,
            due_s=round(due.due_s, 6),
            at_s=round(at_s, 6),
            late=due.is_late(plan.every_s),
            processors=times,
            clocks_khz=read_clocks_khz(root, online) if self._has_clocks else None,
            load=root.parse("proc/loadavg", parse_loadavg, "load average", again=True),
            uptime_s=root.parse("proc/uptime", parse_uptime, "uptime", again=True),
            pressure=read_pressure(root, self._pressure),
            memory=root.parse("proc/meminfo", parse_meminfo, "memory", again=True),
            paging=root.parse("proc/vmstat", parse_vmstat, "paging counters", again=True),
            alive=found.alive,
            processes=found.samples,
            threads=found.threads,
            details=found.details,
            exits=sum_exits(exits, self.table, found),
            disks=self._disks(),
            links=self._links(),
            tcp=self._tcp(),
            sockets=sockets.samples,
            sockets_ended=sockets.ended,
            sensors=self._sensors(at_s, last=last),
            throttles=self._news(
                "throttles", read_throttling(root, self._throttling), lambda one: one.processor
            ),
            supplies=read_power_supplies(root)
            if self._cadence.is_due("power supplies", at_s, last=last)
            else [],
            graphics=read_graphics(root, cards) if with_cards else [],
            graphics_use=found.graphics,
            groups=self._limited_groups(found.groups),
            interrupts=self._interrupts(at_s, last=last),
            zram_bytes=read_zram_bytes(root, self._zram),
            own_cpu_s=round(time.process_time(), 4),
            own_rss_bytes=own_rss_bytes(),
            took_s=round(time.perf_counter() - began_s, 6),
        )
        return Look(tick, found, sockets)

    def meanwhile(self) -> None:
        """Take what the kernel sends between ticks, before its buffer overflows."""
        if self._exits:
            self._exits.gather()

    def close(self) -> None:
        """Close everything that was kept open, and note what was lost."""
        self.table.close()
        self._sockets.close()
        if self._exits:
            if self._exits.lost:
                self.root.note("ends of short-lived processes", "overflow")
            if self._exits.garbled:
                self.root.note("ends of short-lived processes", "garbled")
            self._exits.close()

    def _news(
        self, source: str, now: Iterable[Value], key: Callable[[Value], object]
    ) -> list[Value]:
        """Return those that differ from what was read before under the same key."""
        before = self._before.setdefault(source, {})
        news = []
        for one in now:
            name = key(one)
            if name not in before or before[name] != one:
                before[name] = one
                news.append(one)
        return news

    def _disks(self) -> list[DiskSample]:
        samples = self.root.parse("proc/diskstats", parse_diskstats, "disks", again=True) or []
        disks = (one for one in samples if is_disk(one.name))
        return self._news("disks", disks, lambda one: one.name)

    def _links(self) -> list[LinkSample]:
        name = "proc/net/dev"
        samples = self.root.parse(name, parse_net_dev, "network links", again=True) or []
        return self._news("links", samples, lambda one: one.name)

    def _tcp(self) -> dict[str, int]:
        words: dict[str, int] = {}
        for name in ("snmp", "netstat"):
            words |= (
                self.root.parse(
                    f"proc/net/{name}", parse_tcp_counters, "counters of TCP", again=True
                )
                or {}
            )
        return dict(self._news("tcp", words.items(), lambda one: one[0]))

    def _sensors(self, at_s: float, *, last: bool) -> list[tuple[int, int | None]]:
        if not self._inventory.sensors or not self._cadence.is_due("sensors", at_s, last=last):
            return []
        slow = self._cadence.is_due("slow sensors", at_s, last=last)
        readings = (
            (place, read_reading(self.root, sensor))
            for place, sensor in enumerate(self._inventory.sensors)
            if slow or sensor.chip not in SLOW_CHIPS
        )
        return self._news("sensors", readings, lambda one: one[0])

    def _interrupts(self, at_s: float, *, last: bool) -> dict[str, int]:
        if not self._cadence.is_due("interrupts", at_s, last=last):
            return {}
        counts = self.root.parse(
            "proc/interrupts", parse_interrupts, "interrupts by source", again=True
        )
        return dict(self._news("interrupts", (counts or {}).items(), lambda one: one[0]))

    def _limited_groups(self, busiest: list[str]) -> list[GroupSample]:
        """Return the groups of the busiest processes, and every group seen that has a quota."""
        for path in busiest:
            if path not in self._quotas and len(self._quotas) < GROUPS_MOST:
                self._quotas[path] = self._groups.quota_cores(path)
        limited = [path for path, quota in self._quotas.items() if quota is not None]
        wanted = dict.fromkeys([*busiest, *limited])
        samples = (self._groups.read(path, self._quotas.get(path)) for path in wanted)
        return self._news("groups", (one for one in samples if one), lambda one: one.path)


def _read_times(root: Root) -> ProcessorTimes:
    try:
        return parse_stat(root.read_again("proc/stat"))
    except ParseError as error:
        raise UnreadableComputer(
            f"{error}; a computer cannot be sampled without processor times"
        ) from error


def own_rss_bytes() -> int | None:
    """Return this program's resident set, from the running system whatever the root is."""
    try:
        memory = parse_statm(Path("/proc/self/statm").read_bytes())
    except (OSError, ParseError):
        return None
    return memory.resident * os.sysconf("SC_PAGE_SIZE")
