"""Reads a capture into series, in one pass.

Tick numbers of the file may have gaps; rows here are the ticks that were taken, in order, of a long
capture several put together.
"""

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta, tzinfo
from functools import cached_property
from pathlib import Path

import msgspec
import numpy as np

from dunmist.applications import Grouping, adopt_generations
from dunmist.captures import CaptureReader, Footer, Header, Line, count_ticks
from dunmist.computer import LogEnd, ShownTerminal
from dunmist.errors import CaptureError
from dunmist.sampling import Event, ProcessLine, SocketLine, Survey, Tick
from dunmist.series.code_use import CodeCollector, CodeUse
from dunmist.series.conservation import Impossible
from dunmist.series.devices import DeviceCollector, DeviceSeries
from dunmist.series.file_use import FileCollector, FileUse
from dunmist.series.kernel_messages import KernelMessageCollector, KernelMessageSeries
from dunmist.series.machine import MachineCollector, MachineSeries
from dunmist.series.process import Application, Process
from dunmist.series.processes import Asked, Shared, process_series
from dunmist.series.samples import CaptureContext, ProcessCollector
from dunmist.series.sensors import Correction, ProcessorSensor, processor_sensor
from dunmist.series.sockets import SocketCollector, SocketSeries, UnixConnection, network_use
from dunmist.series.surveyed import Surveyed
from dunmist.series.tick_merging import WHOLE, Part, Row, Together, ticks_together
from dunmist.series.timeline import Floats, Rate, TimeLine
from dunmist.series.waiting_calls import CallCollector, CallUse

# figures of one kind, 8 bytes each, of which a triage holds some twenty kinds
FIGURES_MAX = 12_000_000
# ten years: no capture is longer
SPAN_MAX_S = 3.2e8


@dataclass(frozen=True)
class Series:
    """A whole capture on its time line, with how it was sampled."""

    path: Path
    header: Header
    part: Part
    since_s: float  # how long after the first tick the judged part begins
    footer: Footer | None
    damage: str | None  # the end of an incomplete capture
    line: TimeLine
    machine: MachineSeries
    applications: list[Application]
    processes: Mapping[int, Process]
    unclaimed_cores: Rate  # CPU time that belongs to no process that was seen
    processor_cpu_s: Floats  # shape (CPU numbers, applications)
    devices: DeviceSeries
    sockets: list[SocketSeries]
    unix_connections: Sequence[UnixConnection]
    log_ends: Sequence[LogEnd]  # of logs that busy programs keep
    terminals: Sequence[ShownTerminal]  # that busy programs show
    surveyed: Surveyed
    complaints: Sequence[KernelMessageSeries]
    code: Mapping[int, CodeUse]  # by the number of an application
    files: Mapping[int, FileUse]  # by the number of an application
    calls: Mapping[int, Sequence[CallUse]]  # the call that it waited in, by the same number
    events: list[tuple[int, Event]]  # with the row of the tick before which they happened
    ticks: int
    missed: int  # ticks that were due and not taken
    late: int
    asleep_s: float  # the computer slept meanwhile
    dropped: Counter[str]  # impossible figures by subject

    @property
    def duration_s(self) -> float:
        """Seconds from the first tick to the last."""
        return self.line.duration_s

    @property
    def zone(self) -> tzinfo:
        """The time zone of the patient: the offset that the capture began with."""
        return datetime.fromisoformat(self.header.started).tzinfo or UTC

    @property
    def missed_outside_gaps(self) -> int:
        """Number of ticks that were missed by being late, not in a gap."""
        is_gap = self.line.is_gap
        return sum(
            event.count or 0
            for row, event in self.events
            if event.what == "gap" and not (0 < row <= len(is_gap) and is_gap[row - 1])
        )

    @property
    def taken_share(self) -> float:
        """The share of the planned ticks that were taken."""
        return self.ticks / max(1, self.ticks + self.missed)

    @cached_property
    def living(self) -> dict[int, Process]:
        """The processes that were there at the end, by process number."""
        return {process.pid: process for process in self.processes.values() if process.is_alive}

    @cached_property
    def living_by_unit(self) -> dict[str | None, list[Process]]:
        """The same by the service or scope that they belong to."""
        by_unit: dict[str | None, list[Process]] = {}
        for process in self.living.values():
            by_unit.setdefault(process.unit, []).append(process)
        return by_unit

    @cached_property
    def living_by_name(self) -> dict[str, list[Process]]:
        """The same by what they are called: their own name, and that of their program's file."""
        by_name: dict[str, list[Process]] = {}
        for process in self.living.values():
            file = (process.facts.executable or "").rpartition("/")[2]
            for name in {process.facts.name, file}:
                by_name.setdefault(name, []).append(process)
        return by_name

    @property
    def own_cores(self) -> float:
        """Observer effect: CPU use of sampling and of its answers; one figure for all uses.

        By its own clock where it is no process of this computer.
        """
        own = self.sampler
        if own is None:
            return self.machine.own_cpu_s / self.duration_s
        return own.application.cores.mean()

    @cached_property
    def sampler(self) -> Process | None:
        """The process that sampled, None if that was no part of the computer.

        It is recognized by its identity: another process may have its name.
        """
        own = self.header.observer
        return next(
            (
                process
                for process in self.processes.values()
                if own and (process.pid, process.facts.start_clk) == (own.pid, own.start_clk)
            ),
            None,
        )

    @cached_property
    def processor_sensor(self) -> ProcessorSensor | None:
        """The temperature to take for the processor, None if no rule finds one."""
        return processor_sensor(self.devices.sensors)

    @cached_property
    def package_power(self) -> Rate | None:
        """Power of the CPU package in W; None if it is not published."""
        for sensor in self.devices.sensors:
            if (
                sensor.part == "processor"
                and sensor.is_trusted
                and sensor.quantity in ("power", "energy")
            ):
                return sensor.watts if sensor.watts is not None else sensor.level.at_ends()
        return None

    def started_s(self, start_clk: int) -> float | None:
        """Return the time of a start in seconds since 1970, None without a boot time."""
        about = self.header.machine
        if about.boot_time_s is None:
            return None
        return about.boot_time_s + start_clk / about.clock_ticks_per_s


class _Reading:
    """Contents of a capture that were read so far."""

    def __init__(self, path: Path, header: Header, count: int, part: Part) -> None:
        self.path, self.header, self.part = path, header, part
        self._together = Together(count, header.plan.every_s, part.since_s)
        self.ticks = 0
        self.gaps: list[int] | None = [] if count > 1 else None
        self.grouping = Grouping(header.observer)
        self.machine, self.devices = MachineCollector(), DeviceCollector()
        self.processes, self.sockets = ProcessCollector(), SocketCollector()
        self.complaints = KernelMessageCollector()
        self.code = CodeCollector()
        self.files = FileCollector()
        self.calls = CallCollector()
        self.at_s: list[float] = []
        self.took_s: list[float] = []
        self.began_s: float | None = None
        self.surveys: list[Survey] = []
        self.asked: list[Asked] = []
        self.events: list[tuple[int, Event]] = []
        self.footer: Footer | None = None
        self.missed = self.late = 0
        self.asleep_s = 0.0
        # of the last tick, whether it is looked at or not
        self.ends_s = -math.inf
        self._before_tick: list[ProcessLine | SocketLine | Event] = []

    def take(self, line: Line) -> None:
        """Take one line after the header; raises CaptureError when it contradicts the others."""
        if isinstance(line, Tick):
            self._take_tick(line)
        elif isinstance(line, ProcessLine | SocketLine | Event):
            # they come before the tick that they belong to
            self._before_tick.append(line)
        elif isinstance(line, Survey):
            self.surveys.append(line)
            self.asked.append(Asked(self.ends_s, line.asked))
        elif isinstance(line, Footer):
            self.footer = line

    def end(self) -> None:
        """Take what is left when all lines were taken."""
        for row in self._together.rest():
            self._take_row(row)
        if self.ends_s <= self.part.until_s:
            self._take_before()

    def _take_before(self) -> None:
        for line in self._before_tick:
            if isinstance(line, ProcessLine):
                self.grouping.add(line.id, line.facts)
                self.processes.first_row[line.id] = len(self.at_s)
            elif isinstance(line, SocketLine):
                self.sockets.introduce(line.id, line.facts)
            elif isinstance(line, Event):
                self._take_event(line)
        self._before_tick.clear()

    def _take_event(self, event: Event) -> None:
        row = len(self.at_s)
        if row or not self.part.since_s:
            self.events.append((row, event))
            self.missed += (event.count or 0) if event.what == "gap" else 0
            self.asleep_s += (event.seconds or 0.0) if event.what == "asleep" else 0.0
        if event.what == "exec" and event.facts and event.processes:
            self.grouping.replace(event.processes[0], event.facts)
        elif event.what == "exit":
            self.processes.ended_row.update(dict.fromkeys(event.processes, row))

    def _take_tick(self, tick: Tick) -> None:
        if tick.at_s <= self.ends_s:
            raise CaptureError(
                f"{self.path}: tick {tick.n} is not after the one before it; sample again"
            )
        self.ends_s = tick.at_s
        if tick.at_s > self.part.until_s:
            self._before_tick.clear()
            return
        for row in self._together.reach(tick.at_s):
            self._take_row(row)
        self._take_before()
        self._check(tick)
        if tick.at_s >= self.part.since_s:
            self.ticks += 1
            self.late += tick.late
        for row in self._together.add(tick):
            self._take_row(row)

    def _take_row(self, whole: Row) -> None:
        tick, row = whole.tick, len(self.at_s)
        if whole.after_gap and self.gaps is not None:
            self.gaps.append(row - 1)
        if not row and tick.uptime_s is not None:
            # uptime is read last: a process may have begun while the first tick was taken
            self.began_s = tick.uptime_s - tick.took_s
        for collector in (
            self.machine,
            self.devices,
            self.processes,
            self.sockets,
            self.complaints,
            self.code,
            self.files,
            self.calls,
        ):
            collector.add(row, tick)
        self.at_s.append(tick.at_s)
        self.took_s.append(tick.took_s)

    def check_size(self) -> None:
        """Raise CaptureError for more than can be judged; few bytes of a file can ask for it."""
        rows = len(self.at_s)
        for count, kind in (
            (len(self.grouping.groups), "applications"),
            (len(self.processes.threads), "threads"),
            (len(self.sockets), "connections"),
            (len(self.devices), "devices"),
        ):
            if rows * count > FIGURES_MAX:
                raise CaptureError(
                    f"{self.path}: has {self.ticks} ticks and {count} {kind}, more than can be "
                    f"judged at once; look at a part of it (--since, --until)"
                )

    def _check(self, tick: Tick) -> None:
        """Raise CaptureError for a tick that cannot be, or contradicts what came before it."""
        impossible = _impossible(tick)
        if impossible:
            raise CaptureError(f"{self.path}: tick {tick.n} {impossible}; sample again")
        named = [sample.process for sample in tick.processes]
        named += [thread.process for thread in tick.threads]
        named += [detail.process for detail in tick.details]
        named += [sample.process for sample in tick.code]
        named += [total.process for total in tick.file_totals]
        named += [call.process for call in tick.calls]
        known = self.grouping.application_of
        for kind, stranger in (
            ("process", next((name for name in named if name not in known), None)),
            ("socket", self.sockets.stranger(tick)),
        ):
            if stranger is not None:
                raise CaptureError(
                    f"{self.path}: tick {tick.n} has {kind} {stranger}, which was never "
                    f"introduced; sample again"
                )


def _impossible(tick: Tick) -> str | None:
    """Return the first impossible fact of a tick, None if there is none."""
    if tick.at_s > SPAN_MAX_S:
        return f"is {tick.at_s:g} s after the first one"
    if not tick.processors.times_clk:
        return "has no CPU"
    if tick.memory is not None and tick.memory.get("MemTotal") == 0:
        return "has no memory"
    return None


def load_series(path: Path, corrections: Sequence[Correction] = (), part: Part = WHOLE) -> Series:
    """Return the series of a capture or of a part of it.

    Raises CaptureError when it cannot be judged.
    """
    with CaptureReader(path) as reader:
        header = reader.header
        about = header.machine
        if min(about.clock_ticks_per_s, about.page_bytes, about.memory_bytes) <= 0:
            raise CaptureError(f"{path}: line 1 has a unit of nothing; sample again")
        read = _Reading(path, header, _count_together(path, header, part), part)
        for line in reader.lines():
            read.take(line)
        read.end()
    if len(read.at_s) < 2 and part != WHOLE:
        raise CaptureError(
            f"{path}: has no two ticks in that part of its {read.ends_s:.0f} s; "
            f"give another --since or --until"
        )
    if len(read.at_s) < 2:
        raise CaptureError(f"{path}: holds one tick, and rates need two; sample again for longer")
    read.check_size()
    return _finished(read, reader.damage, corrections)


def _count_together(path: Path, header: Header, part: Part) -> int:
    """Return the number of ticks of one row."""
    ticks, every_s = count_ticks(path), header.plan.every_s
    if ticks is None:
        return 1
    wanted_s = min(part.until_s, header.plan.duration_s) - part.since_s
    if every_s > 0 and 0 < wanted_s / every_s < ticks:
        ticks = math.ceil(wanted_s / every_s)
    return ticks_together(ticks)


def _finished(read: _Reading, damage: str | None, corrections: Sequence[Correction]) -> Series:
    read.grouping.order_by_parent()
    started = adopt_generations(read.grouping, read.processes, len(read.at_s))
    about = read.header.machine
    at_s, every_s = np.array(read.at_s) - read.at_s[0], read.header.plan.every_s
    line = TimeLine(at_s, every_s, read.gaps)
    impossible = Impossible(line, np.array(read.took_s))
    machine = read.machine.finish(
        line, {processor.number: processor for processor in about.processors}, impossible
    )
    packages = {processor.number: processor.package or 0 for processor in about.processors}
    devices = read.devices.finish(read.header.inventory, packages, corrections, impossible)
    sockets = read.sockets.finish(line)
    basis = CaptureContext(read.grouping, about, machine.online, read.began_s, impossible, started)
    shared = Shared(
        *network_use(sockets, read.grouping, line), _graphics_of(devices, read.grouping, line)
    )
    processes = process_series(read.processes, basis, shared, read.asked)
    header = _begun_at(read.header, read.at_s[0])
    return Series(
        path=read.path,
        header=header,
        part=read.part,
        since_s=read.at_s[0],
        footer=read.footer,
        damage=damage,
        line=line,
        machine=machine,
        applications=processes.applications,
        processes=processes.by_identity,
        unclaimed_cores=processes.unclaimed_cores,
        processor_cpu_s=processes.processor_cpu_s,
        devices=devices,
        sockets=sockets,
        unix_connections=read.sockets.unix_connections(read.surveys),
        log_ends=[end for survey in read.surveys for end in survey.log_ends],
        terminals=[shown for survey in read.surveys for shown in survey.terminals],
        surveyed=Surveyed(
            read.surveys, datetime.fromisoformat(header.started).timestamp(), line.duration_s
        ),
        complaints=read.complaints.finish(read.at_s[0]),
        code=read.code.finish(
            read.grouping, [item for survey in read.surveys for item in survey.functions]
        ),
        files=read.files.finish(read.grouping),
        calls=read.calls.finish(read.grouping),
        events=read.events,
        ticks=read.ticks,
        missed=read.missed,
        late=read.late,
        asleep_s=read.asleep_s,
        dropped=+impossible.dropped,
    )


def _begun_at(header: Header, at_s: float) -> Header:
    """Return the header of a part that begins so many seconds after the first tick."""
    if not at_s:
        return header
    began = datetime.fromisoformat(header.started) + timedelta(seconds=at_s)
    return msgspec.structs.replace(header, started=began.isoformat())


def _graphics_of(devices: DeviceSeries, grouping: Grouping, line: TimeLine) -> Floats:
    used = np.zeros((line.intervals, len(grouping.groups)))
    for identity, rate in devices.graphics_use.items():
        number = grouping.application_of.get(identity)
        if number is not None:
            used[:, number] += rate.values
    return used
