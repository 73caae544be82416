"""Reads a capture into series, in one pass.

Tick numbers of the file may have gaps; rows here are the ticks that were taken, in order.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from dunmist.applications import Grouping
from dunmist.captures import CaptureReader, Footer, Header, Line
from dunmist.errors import CaptureError
from dunmist.sampling import Event, Process, Socket, Survey, Tick
from dunmist.series.devices import DeviceCollector, DeviceSeries
from dunmist.series.machine import MachineSeries, machine_series
from dunmist.series.processes import Collector, ProcessSeries, process_series
from dunmist.series.rates import Floats
from dunmist.series.sensors import Correction
from dunmist.series.sockets import SocketCollector, SocketSeries, network_use


@dataclass(frozen=True, slots=True)
class Series:
    """A whole capture as arrays, with what is known about how it was sampled.

    ``missed`` and ``late`` count ticks, ``asleep_s`` is time the computer slept meanwhile,
    ``damage`` says where a capture ends that is not whole. ``sent_bytes_per_s`` and
    ``received_bytes_per_s`` are TCP traffic with other computers, shape (intervals, applications).
    ``events`` come with the row of the tick before which they happened. ``surveys`` are in order,
    the last one taken after the last tick unless the file was cut short.
    """

    path: Path
    header: Header
    footer: Footer | None
    damage: str | None
    machine: MachineSeries
    processes: ProcessSeries
    devices: DeviceSeries
    sockets: list[SocketSeries]
    sent_bytes_per_s: Floats
    received_bytes_per_s: Floats
    surveys: list[Survey]
    events: list[tuple[int, Event]]
    ticks: int
    missed: int
    late: int
    asleep_s: float

    @property
    def duration_s(self) -> float:
        """Seconds from the first tick to the last."""
        return float(self.machine.at_s[-1])

    @property
    def last_survey(self) -> Survey | None:
        """The newest of the surveys, None in a capture that has none."""
        return self.surveys[-1] if self.surveys else None


@dataclass(slots=True)
class _Read:
    """What has been read of a capture so far."""

    path: Path
    grouping: Grouping
    collected: Collector
    devices: DeviceCollector = field(default_factory=DeviceCollector)
    sockets: SocketCollector = field(default_factory=SocketCollector)
    ticks: list[Tick] = field(default_factory=list)
    surveys: list[Survey] = field(default_factory=list)
    events: list[tuple[int, Event]] = field(default_factory=list)
    footer: Footer | None = None
    missed: int = 0
    asleep_s: float = 0.0

    def take(self, line: Line) -> None:
        """Take one line after the header; raises CaptureError when it contradicts the others."""
        if isinstance(line, Process):
            self.grouping.add(line.id, line.facts)
            self.collected.first_tick[line.id] = len(self.ticks)
        elif isinstance(line, Socket):
            self.sockets.introduce(line.id, len(self.ticks), line.facts)
        elif isinstance(line, Event):
            self._take_event(line)
        elif isinstance(line, Tick):
            self._take_tick(line)
        elif isinstance(line, Survey):
            self.surveys.append(line)
        elif isinstance(line, Footer):
            self.footer = line

    def _take_event(self, event: Event) -> None:
        self.events.append((len(self.ticks), event))
        self.missed += (event.count or 0) if event.what == "gap" else 0
        self.asleep_s += (event.seconds or 0.0) if event.what == "asleep" else 0.0
        if event.what == "exec" and event.facts and event.processes:
            self.grouping.replace(event.processes[0], event.facts)
        elif event.what == "exit":
            self.collected.ended_tick.update(dict.fromkeys(event.processes, len(self.ticks)))

    def _take_tick(self, tick: Tick) -> None:
        _check(self.path, tick, self.ticks, self.grouping)
        row = len(self.ticks)
        self.collected.add(row, tick)
        self.devices.add(row, tick)
        for detail in tick.details:
            self.sockets.owned(detail.process, detail.sockets)
        for sample in tick.sockets:
            if sample.socket not in self.sockets.sockets:
                raise CaptureError(
                    f"{self.path}: tick {tick.n} has socket {sample.socket}, which was never "
                    f"introduced; sample again"
                )
            self.sockets.add(row, sample)
        for number in tick.sockets_ended:
            self.sockets.end(number)
        # the collectors have what grows with the number of processes; the machine's figures stay
        self.ticks.append(
            msgspec.structs.replace(
                tick, processes=[], threads=[], details=[], exits=[], sockets=[], sensors=[],
                disks=[], links=[], interrupts={}, groups=[],
            )
        )  # fmt: skip


def load_series(path: Path, corrections: Sequence[Correction] = ()) -> Series:
    """Return a capture's series; raises CaptureError when it cannot be judged."""
    with CaptureReader(path) as reader:
        header = reader.header
        about = header.machine
        if min(about.clock_ticks_per_s, about.page_bytes, about.memory_bytes) <= 0:
            raise CaptureError(f"{path}: line 1 has a unit of nothing; sample again")
        read = _Read(path, Grouping(header.observer), Collector(about.clock_ticks_per_s))
        for line in reader.lines():
            read.take(line)
        if len(read.ticks) < 2:
            raise CaptureError(
                f"{path}: holds one tick, and rates need two; sample again for longer"
            )
    read.grouping.order_by_parent()
    machine = machine_series(read.ticks)
    sockets = read.sockets.finish()
    sent, received = network_use(sockets, read.grouping, machine.interval_s)
    packages = {one.number: one.package or 0 for one in about.processors}
    return Series(
        path=path,
        header=header,
        footer=read.footer,
        damage=reader.damage,
        machine=machine,
        processes=process_series(
            read.collected,
            read.grouping,
            machine.interval_s,
            about.page_bytes,
        ),
        devices=read.devices.finish(
            header.inventory, machine.interval_s, packages, list(corrections)
        ),
        sockets=sockets,
        sent_bytes_per_s=sent,
        received_bytes_per_s=received,
        surveys=read.surveys,
        events=read.events,
        ticks=len(read.ticks),
        missed=read.missed,
        late=sum(tick.late for tick in read.ticks),
        asleep_s=read.asleep_s,
    )


def _check(path: Path, tick: Tick, before: list[Tick], grouping: Grouping) -> None:
    """Raise CaptureError for a tick that contradicts what came before it."""
    if before and tick.at_s <= before[-1].at_s:
        raise CaptureError(f"{path}: tick {tick.n} is not after the one before it; sample again")
    named = [sample.process for sample in tick.processes]
    named += [thread.process for thread in tick.threads]
    named += [detail.process for detail in tick.details]
    stranger = next((name for name in named if name not in grouping.application_of), None)
    if stranger is not None:
        raise CaptureError(
            f"{path}: tick {tick.n} has process {stranger}, which was never introduced; "
            f"sample again"
        )
