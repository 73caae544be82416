"""Compute the cost of each autostarted thing since its start.

The cost of a service is that of the processes in its control group, with the children they waited
for. The cost of a desktop entry is that of the program its command names. CPU time is counted
from each process's start, not from the capture's.
"""

import shlex
from collections.abc import Iterable
from typing import NamedTuple

from dunmist.computer import StartEntry, Unit
from dunmist.series.load import Series
from dunmist.series.process import Process


class Cost(NamedTuple):
    """Use of a set of living processes since their start."""

    processes: list[Process]
    cpu_s: float
    rss_bytes: int
    read_bytes: int | None

    @property
    def pids(self) -> list[int]:
        """Their process numbers in order."""
        return sorted(process.pid for process in self.processes)


def cost_of_unit(series: Series, unit: Unit) -> Cost:
    """Return the cost of a service; nothing when it has no process."""
    return _cost(series, series.living_by_unit.get(unit.name, ()))


def cost_of_entry(series: Series, entry: StartEntry) -> Cost:
    """Return the cost of what a desktop entry started; jobs end and leave nothing to count."""
    program = _program(entry.command) if entry.kind == "desktop" else ""
    return _cost(series, series.living_by_name.get(program, ()) if program else ())


def _cost(series: Series, processes: Iterable[Process]) -> Cost:
    about = series.header.machine
    counted = [process for process in processes if process.last is not None]
    samples = [member.last for member in counted if member.last is not None]
    clk = sum(
        sample.user_clk + sample.system_clk + sample.children_user_clk + sample.children_system_clk
        for sample in samples
    )
    read = [sample.read_bytes for sample in samples if sample.read_bytes is not None]
    return Cost(
        counted,
        clk / about.clock_ticks_per_s,
        sum(sample.rss_pages for sample in samples) * about.page_bytes,
        sum(read) if read else None,
    )


def _program(command: str) -> str:
    try:
        words = shlex.split(command)
    except ValueError:
        words = command.split()
    words = [word for word in words if "=" not in word and word != "env"]
    return words[0].rpartition("/")[2] if words else ""
