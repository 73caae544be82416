"""All that is read at a tick: the table of sources, and the round that reads those that are due.

``SOURCES`` is the one place where a source of a tick is declared. What stands still for half a
minute is in ``survey``; what never changes is read once, into the header's inventory.
"""

import os
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from dunmist.computer import (
    SLOW_CHIPS,
    GroupSample,
    ParseError,
    QueueSample,
    is_disk,
    parse_diskstats,
    parse_interrupts,
    parse_loadavg,
    parse_meminfo,
    parse_net_dev,
    parse_statm,
    read_clocks_khz,
    read_graphics,
    read_power_supplies,
    read_pressure,
    read_reading,
    read_throttling,
    read_zram_bytes,
)
from dunmist.sampling.code_sampler import WATCHED_PROCESSES
from dunmist.sampling.exited_tasks import sum_exits
from dunmist.sampling.pace import Due, Plan
from dunmist.sampling.process_table import ProcessRound
from dunmist.sampling.records import Tick
from dunmist.sampling.registry import Source
from dunmist.sampling.socket_table import SocketRound
from dunmist.sampling.tick_context import OpenComputer, TickContext

# waiting processes whose call is read in a tick
CALLS_MOST, MOVING_MOST = 16, 2
# groups with a limit that are read at each tick
GROUPS_MOST = 64
# a source read this soon after the start of a tick counts as read at it
AFTER_LEAST_MS = 2


class Round(NamedTuple):
    """Result of one tick: the tick itself, and new and exited processes and sockets."""

    tick: Tick
    processes: ProcessRound
    sockets: SocketRound


def read_round(computer: OpenComputer, due: Due, plan: Plan, elapsed_s: float) -> Round:
    """Read everything that is due; raises UnreadableComputer without processor times."""
    reading = TickContext(computer, due, elapsed_s, is_last=due.number >= plan.intervals)
    fields: dict[str, object] = {}
    after_ms: dict[str, int] = {}
    for source in SOURCES:
        if source.every_s and not reading.is_due(source.subject, source.every_s):
            continue
        if source.counts and (late_ms := reading.after_ms()) >= AFTER_LEAST_MS:
            after_ms[source.fields[0]] = late_ms
        for name, value in zip(source.fields, source.read(reading), strict=True):
            kept = value if source.keeps == "all" else computer.changes.of(source, value)
            before = fields.get(name)
            fields[name] = [*before, *kept] if before else kept  # type: ignore[misc]
    tick = Tick(
        n=due.number,
        due_s=round(due.due_s, 6),
        at_s=round(due.at_s, 6),
        late=due.is_late(plan.every_s),
        took_s=round(reading.after_s(), 6),
        after_ms=after_ms,
        **fields,  # type: ignore[arg-type]  # a test holds each field against its source
    )
    return Round(tick, reading.processes, reading.found_sockets)


# how often: some chips are slow to read, and batteries change slowly
SENSORS_S, SLOW_SENSORS_S, SELDOM_S = 1.0, 30.0, 10.0


def _processes(reading: TickContext) -> tuple[object, ...]:
    # exits are read first: a later exit belongs to the next tick
    exits = reading.computer.exits.drain() if reading.computer.exits else []
    processes = reading.processes
    return (
        processes.alive,
        processes.samples,
        processes.threads,
        processes.details,
        processes.graphics,
        sum_exits(exits, reading.computer.table, processes),
    )


def _code(reading: TickContext) -> tuple[object, ...]:
    sampler, table = reading.computer.code, reading.computer.table
    if sampler is None:
        return ([],)
    processes = reading.processes
    ended = {pid: number for number, pid in processes.ended.items()}
    samples = sampler.read(lambda pid: ended.get(pid, table.number_of(pid)))
    if sampler.follows:
        sampler.follow(table.busiest_threads(processes, WATCHED_PROCESSES))
    return (samples,)


def _files(reading: TickContext) -> tuple[object, ...]:
    activity, table = reading.computer.files, reading.computer.table
    if activity is None:
        return [], []
    moved = reading.processes.moved_bytes
    return activity.read(moved, reading.elapsed_s, lambda pid: table.number_of(int(pid)))


def _calls(reading: TickContext) -> tuple[object, ...]:
    processes, table = reading.processes, reading.computer.table
    if reading.computer.waiting is None:
        return ([],)
    moving = [
        (number, pid)
        for pid, _ in processes.moved_bytes.most_common(MOVING_MOST)
        # the capture is our only write
        if (number := table.number_of(int(pid))) not in (None, table.own)
    ]
    return (reading.computer.waiting.read(processes.blocked[:CALLS_MOST], moving),)


def _sockets(reading: TickContext) -> tuple[object, ...]:
    return reading.found_sockets.samples, reading.found_sockets.ended


def _clocks(reading: TickContext) -> tuple[object, ...]:
    if not reading.computer.has_clocks:
        return (None,)
    return (read_clocks_khz(reading.root, sorted(reading.times.times_clk)),)


def _file(
    name: str, parser: Callable[[bytes], object], subject: str
) -> Callable[[TickContext], tuple[object, ...]]:
    """Return the reader of one file that stays open; None goes into the tick where it fails."""
    return lambda reading: (reading.root.parse(name, parser, subject, again=True),)


def _disks(reading: TickContext) -> tuple[object, ...]:
    samples = reading.root.parse("proc/diskstats", parse_diskstats, "disks", again=True) or []
    return ([sample for sample in samples if is_disk(sample.name)],)


def _links(reading: TickContext) -> tuple[object, ...]:
    return (reading.root.parse("proc/net/dev", parse_net_dev, "network links", again=True) or [],)


def _tcp(reading: TickContext) -> tuple[object, ...]:
    return (reading.tcp,)


def _sensors(reading: TickContext) -> tuple[object, ...]:
    sensors = reading.computer.inventory.sensors
    slow = bool(sensors) and reading.is_due("slow sensors", SLOW_SENSORS_S)
    return (
        [
            (index, read_reading(reading.root, sensor))
            for index, sensor in enumerate(sensors)
            if slow or sensor.chip not in SLOW_CHIPS
        ],
    )


def _interrupts(reading: TickContext) -> tuple[object, ...]:
    counts = reading.root.parse(
        "proc/interrupts", parse_interrupts, "interrupts by source", again=True
    )
    return (counts or {},)


def _groups(reading: TickContext) -> tuple[object, ...]:
    """Give the groups of the busiest processes, and every group seen that has a quota."""
    busiest, quotas, groups = (
        reading.processes.groups,
        reading.computer.quotas,
        reading.computer.groups,
    )
    for path in busiest:
        if path not in quotas and len(quotas) < GROUPS_MOST:
            quotas[path] = groups.quota_cores(path)
    limited = [path for path, quota in quotas.items() if quota is not None]
    wanted = dict.fromkeys([*busiest, *limited])
    samples = (groups.read(path, quotas.get(path)) for path in wanted)
    known: list[GroupSample] = [sample for sample in samples if sample]
    return (known,)


def _complaints(reading: TickContext) -> tuple[object, ...]:
    return (reading.computer.kernel_log.read_new(reading.uptime_s),)


# in the order in which they are read: first what is read in no time, so that all of it belongs to
# the beginning of the tick; then processes, which change while the expensive sources are read
SOURCES: tuple[Source[TickContext], ...] = (
    Source(("processors",), "processors", lambda reading: (reading.times,)),
    Source(("load",), "load average", _file("proc/loadavg", parse_loadavg, "load average")),
    Source(("uptime_s",), "uptime", lambda reading: (reading.uptime_s,)),
    Source(
        ("pressure",),
        "pressure-stall accounting",
        lambda reading: (read_pressure(reading.root, reading.computer.pressure),),
        counts=True,
    ),
    Source(("memory",), "memory", _file("proc/meminfo", parse_meminfo, "memory")),
    Source(("paging",), "paging counters", lambda reading: (reading.paging,)),
    Source(("disks",), "disks", _disks, keeps="changes", key=lambda disk: disk.name, counts=True),
    Source(
        ("links",),
        "network links",
        _links,
        keeps="changes",
        key=lambda link: link.name,
        counts=True,
    ),
    Source(
        ("queues",),
        "queues of network links",
        lambda reading: (reading.computer.queues.read(),),
        every_s=SENSORS_S,
        keeps="changes",
        key=lambda queue: queue.link,
        # nothing waits on a link that is gone
        gone=lambda queue: QueueSample(queue.link, 0, queue.drops),
    ),
    Source(("tcp",), "counters of TCP", _tcp, keeps="changes"),
    Source(
        ("alive", "processes", "threads", "details", "graphics_use", "exits"),
        "processes",
        _processes,
    ),
    Source(("code",), "code that programs run", _code),
    Source(("files", "file_totals"), "positions in open files", _files),
    Source(("calls",), "system calls of waiting processes", _calls),
    Source(
        ("groups",),
        "control groups",
        _groups,
        keeps="changes",
        key=lambda group: group.path,
        counts=True,
    ),
    Source(("sockets", "sockets_ended"), "sockets", _sockets, counts=True),
    Source(("clocks_khz",), "clock frequency", _clocks),
    Source(
        ("sensors",),
        "sensors",
        _sensors,
        every_s=SENSORS_S,
        keeps="changes",
        key=lambda sensor: sensor[0],
    ),
    Source(
        ("throttles",),
        "throttle counts",
        lambda reading: (read_throttling(reading.root, reading.computer.throttling),),
        keeps="changes",
        key=lambda count: count.processor,
        counts=True,
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
    Source(("interrupts",), "interrupts by source", _interrupts, every_s=SELDOM_S, keeps="changes"),
    Source(
        ("zram_bytes",),
        "compressed swap",
        lambda reading: (read_zram_bytes(reading.root, reading.computer.zram),),
    ),
    Source(("complaints",), "the kernel's log", _complaints),
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
