"""Reads a capture into series, in one pass.

Tick numbers of the file may have gaps; rows here are the ticks that were taken, in order.
"""

from dataclasses import dataclass
from pathlib import Path

import msgspec

from dunmist.applications import Grouping
from dunmist.captures import CaptureReader, Footer, Header
from dunmist.errors import CaptureError
from dunmist.sampling import Event, Process, Tick
from dunmist.series.machine import MachineSeries, machine_series
from dunmist.series.processes import Collector, ProcessSeries, process_series


@dataclass(frozen=True, slots=True)
class Series:
    """A whole capture as arrays, with what is known about how it was sampled.

    ``missed`` and ``late`` count ticks, ``asleep_s`` is time the computer slept meanwhile,
    ``damage`` says where a capture ends that is not whole.
    """

    path: Path
    header: Header
    footer: Footer | None
    damage: str | None
    machine: MachineSeries
    processes: ProcessSeries
    ticks: int
    missed: int
    late: int
    asleep_s: float

    @property
    def duration_s(self) -> float:
        """Seconds from the first tick to the last."""
        return float(self.machine.at_s[-1])


def load_series(path: Path) -> Series:
    """Return a capture's series; raises CaptureError when it cannot be judged."""
    ticks: list[Tick] = []
    footer: Footer | None = None
    missed, asleep_s = 0, 0.0
    with CaptureReader(path) as reader:
        about = reader.header.machine
        if min(about.clock_ticks_per_s, about.page_bytes, about.memory_bytes) <= 0:
            raise CaptureError(f"{path}: line 1 has a unit of nothing; sample again")
        grouping = Grouping(reader.header.observer)
        collected = Collector(about.clock_ticks_per_s)
        for line in reader.lines():
            if isinstance(line, Process):
                grouping.add(line.id, line.facts)
                collected.first_tick[line.id] = len(ticks)
            elif isinstance(line, Event):
                missed += (line.count or 0) if line.what == "gap" else 0
                asleep_s += line.seconds or 0.0
                if line.what == "exec" and line.facts:
                    grouping.replace(line.processes[0], line.facts)
                elif line.what == "exit":
                    collected.ended_tick.update(dict.fromkeys(line.processes, len(ticks)))
            elif isinstance(line, Tick):
                _check(path, line, ticks, grouping)
                collected.add(len(ticks), line)
                ticks.append(msgspec.structs.replace(line, processes=[], threads=[]))
            elif isinstance(line, Footer):
                footer = line
        if len(ticks) < 2:
            raise CaptureError(
                f"{path}: holds one tick, and rates need two; sample again for longer"
            )
    grouping.order_by_parent()
    machine = machine_series(ticks)
    return Series(
        path=path,
        header=reader.header,
        footer=footer,
        damage=reader.damage,
        machine=machine,
        processes=process_series(
            collected,
            grouping,
            machine.interval_s,
            about.page_bytes,
        ),
        ticks=len(ticks),
        missed=missed,
        late=sum(tick.late for tick in ticks),
        asleep_s=asleep_s,
    )


def _check(path: Path, tick: Tick, before: list[Tick], grouping: Grouping) -> None:
    """Raise CaptureError for a tick that contradicts what came before it."""
    if before and tick.at_s <= before[-1].at_s:
        raise CaptureError(f"{path}: tick {tick.n} is not after the one before it; sample again")
    named = [sample.process for sample in tick.processes]
    named += [thread.process for thread in tick.threads]
    stranger = next((name for name in named if name not in grouping.application_of), None)
    if stranger is not None:
        raise CaptureError(
            f"{path}: tick {tick.n} has process {stranger}, which was never introduced; "
            f"sample again"
        )
