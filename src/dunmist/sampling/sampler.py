"""One round of reading after another, turned into records.

Given a root, what the machine is, a plan and a clock, it yields records in the order in which a
capture holds them: new processes and events before the tick they belong to.
"""

import os
import time
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import msgspec

from dunmist.computer import (
    Machine,
    ParseError,
    ProcessorTimes,
    ProcessTable,
    Root,
    Round,
    find_pressure,
    parse_loadavg,
    parse_meminfo,
    parse_process_stat,
    parse_stat,
    parse_statm,
    parse_uptime,
    parse_vmstat,
    read_clocks_khz,
    read_pressure,
)
from dunmist.errors import UnreadableComputer
from dunmist.sampling.clock import Clock
from dunmist.sampling.pace import Due, pace
from dunmist.sampling.plan import Plan
from dunmist.sampling.records import Event, Process, Tick

Record = Process | Event | Tick
ASLEEP_LEAST_S = 1.0


class Observer(msgspec.Struct, frozen=True):
    """The identity of the sampling program itself."""

    pid: int
    start_clk: int


def find_observer(root: Root) -> Observer | None:
    """Return this program's identity; None when it is not part of the computer it samples."""
    if not root.is_this_computer:
        return None
    own = parse_process_stat(root.read("proc/self/stat"))
    return Observer(own.pid, own.start_clk)


def sample(root: Root, machine: Machine, plan: Plan, clock: Clock) -> Iterator[Record]:
    """Yield the records of one capture; raises UnreadableComputer when the root goes away."""
    table = ProcessTable(root, machine.clock_ticks_per_s)
    sources = _Sources(
        root,
        table,
        pressure=find_pressure(root),
        clocks=any(processor.max_khz for processor in machine.processors),
    )
    before = _Before(online=len(machine.processors))
    try:
        for due in pace(plan, clock):
            yield from _events_before(due, before, clock)
            found, tick = _look(sources, due, plan, due.at_s - before.at_s)
            yield from _changes(due.number, found)
            if len(tick.processors.times_clk) != before.online:
                before.online = len(tick.processors.times_clk)
                yield Event("processors", due.number, count=before.online)
            yield tick
            before.at_s = due.at_s
    except OSError as error:
        raise UnreadableComputer(
            f"{root.path}/proc: {error.strerror} while sampling; check that it is still there"
        ) from error
    finally:
        table.close()


class _Sources(NamedTuple):
    """What is read at every tick."""

    root: Root
    table: ProcessTable
    pressure: list[str]
    clocks: bool


class _Before(msgspec.Struct):
    """What the round before left behind."""

    online: int
    at_s: float = 0.0
    asleep_s: float | None = None


def _events_before(due: Due, before: _Before, clock: Clock) -> Iterator[Event]:
    if due.missed:
        yield Event("gap", due.number, count=due.missed)
    asleep_s = clock.boottime_s() - clock.monotonic_s()
    if before.asleep_s is not None and asleep_s - before.asleep_s > ASLEEP_LEAST_S:
        yield Event("asleep", due.number, seconds=round(asleep_s - before.asleep_s, 3))
    before.asleep_s = asleep_s


def _changes(number: int, found: Round) -> Iterator[Process | Event]:
    # exits first: a number may have been given away again within the same interval
    if found.ended:
        yield Event("exit", number, processes=found.ended)
    for identity, facts in found.appeared:
        yield Process(identity, number, facts)
    for identity, facts in found.became:
        yield Event("exec", number, processes=[identity], facts=facts)


def _look(sources: _Sources, due: Due, plan: Plan, elapsed_s: float) -> tuple[Round, Tick]:
    root = sources.root
    began_s = time.perf_counter()
    times = _read_times(root)
    found = sources.table.look(elapsed_s)
    online = sorted(times.times_clk)
    return found, Tick(
        n=due.number,
        due_s=round(due.due_s, 6),
        at_s=round(due.at_s, 6),
        late=due.is_late(plan.every_s),
        processors=times,
        clocks_khz=read_clocks_khz(root, online) if sources.clocks else None,
        load=root.parse("proc/loadavg", parse_loadavg, "load average", again=True),
        uptime_s=root.parse("proc/uptime", parse_uptime, "uptime", again=True),
        pressure=read_pressure(root, sources.pressure),
        memory=root.parse("proc/meminfo", parse_meminfo, "memory", again=True),
        paging=root.parse("proc/vmstat", parse_vmstat, "paging counters", again=True),
        alive=found.alive,
        processes=found.samples,
        threads=found.threads,
        own_cpu_s=round(time.process_time(), 4),
        own_rss_bytes=own_rss_bytes(),
        took_s=round(time.perf_counter() - began_s, 6),
    )


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
