"""What starts by itself, and what each has cost since it was started.

The cost of a service is that of the processes in its control group, with the children they waited
for; that of a desktop entry is that of the program its command names. Processor time is counted
from each process's start, not from the capture's.
"""

import shlex
from collections import defaultdict
from collections.abc import Iterable
from typing import NamedTuple

from dunmist.applications import unit_of
from dunmist.computer import ProcessSample, StartEntry, Unit
from dunmist.series.processes import ProcessSeries


class Cost(NamedTuple):
    """What a set of processes has used since they were started."""

    pids: list[int]
    cpu_s: float
    rss_bytes: int
    read_bytes: int | None


class Started:
    """Knows the living processes by unit and by program."""

    def __init__(self, processes: ProcessSeries, clock_ticks_per_s: int, page_bytes: int) -> None:
        self._processes = processes
        self._clk_per_s = clock_ticks_per_s
        self._page_bytes = page_bytes
        self._by_unit: dict[str, list[int]] = defaultdict(list)
        self._by_program: dict[str, list[int]] = defaultdict(list)
        for identity in processes.last:
            if identity in processes.ended_tick:
                continue
            facts = processes.grouping.facts(identity)
            unit = unit_of(facts.cgroup)
            if unit:
                self._by_unit[unit].append(identity)
            for name in {facts.name, (facts.executable or "").rpartition("/")[2]} - {""}:
                self._by_program[name].append(identity)

    def of_unit(self, unit: Unit) -> Cost:
        """Return the cost of a service; nothing when it has no process."""
        return self._cost(self._by_unit.get(unit.name, ()))

    def of_entry(self, entry: StartEntry) -> Cost:
        """Return the cost of what a desktop entry started; jobs end and leave nothing to count."""
        if entry.kind != "desktop":
            return self._cost(())
        return self._cost(self._by_program.get(_program(entry.command), ()))

    def _cost(self, identities: Iterable[int]) -> Cost:
        samples: list[ProcessSample] = [self._processes.last[one] for one in identities]
        pids = sorted(self._processes.grouping.facts(one.process).pid for one in samples)
        clk = sum(
            one.user_clk + one.system_clk + one.children_user_clk + one.children_system_clk
            for one in samples
        )
        read = [one.read_bytes for one in samples if one.read_bytes is not None]
        return Cost(
            pids,
            clk / self._clk_per_s,
            sum(one.rss_pages for one in samples) * self._page_bytes,
            sum(read) if read else None,
        )


def _program(command: str) -> str:
    try:
        words = shlex.split(command)
    except ValueError:
        words = command.split()
    words = [word for word in words if "=" not in word and word != "env"]
    return words[0].rpartition("/")[2] if words else ""
