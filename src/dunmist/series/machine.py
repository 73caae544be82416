"""The machine as a whole over the ticks: processors, stalls, memory.

Filled tick by tick. What the kernel did not say, or what cannot be had for an interval, is unknown.
"""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from dunmist.computer import SOFT_INTERRUPTS, Processor
from dunmist.sampling import Tick
from dunmist.sampling.deltas import FORGIVEN_CLK, KINDS
from dunmist.series.conservation import Impossible
from dunmist.series.counters import Readings, Track
from dunmist.series.timeline import Floats, Level, Rate, TimeLine

BUSY_KINDS = ("user", "nice", "system", "irq", "softirq")
INTERRUPT_KINDS = ("irq", "softirq")
US_PER_S = 1e6
HZ_PER_KHZ = 1e3
KILLED = "oom_kill"
KIB = 1024.0


@dataclass(frozen=True, slots=True)
class LogicalProcessor:
    """One logical CPU: ``shares`` of its time by kind, which add up to 1 while it is online.

    ``hardware`` is where it sits, None if that is not published.
    """

    number: int
    hardware: Processor | None
    shares: Mapping[str, Rate]
    clock_hz: Level | None

    def share(self, *kinds: str) -> Rate:
        """Return the share of the given kinds of time together."""
        first, *others = (self.shares[kind] for kind in kinds)
        return sum(others, first)

    @property
    def busy(self) -> Rate:
        """Share of its time in which it did not idle."""
        return self.share(*BUSY_KINDS)

    @property
    def base_clock_hz(self) -> float | None:
        """The clock that it is promised with all others at work, None if not published."""
        khz = self.hardware.base_khz if self.hardware else None
        return khz * HZ_PER_KHZ if khz else None

    @property
    def max_clock_hz(self) -> float | None:
        """Its greatest clock, None if that is not published."""
        return (
            self.hardware.max_khz * HZ_PER_KHZ if self.hardware and self.hardware.max_khz else None
        )


@dataclass(frozen=True, slots=True)
class MachineSeries:
    """``online`` counts logical CPUs, ``busy_cores`` what the kernel counted busy in them.

    ``interrupt_cores`` is the part of it spent on interrupts, which belongs to no process.
    ``runnable`` counts the tasks that ran or waited for a CPU at each tick,
    ``tasks`` all there were. ``stalled`` is the share of time in which some task waited, by
    resource. ``memory`` is in bytes by the kernel's word, ``paging`` in events a second.
    ``killed`` counts the processes that were ended for lack of memory, gaps included.
    ``zram_bytes`` is memory held by compressed swap. ``soft_interrupts`` counts them by kind over
    the capture.
    """

    line: TimeLine
    processors: list[LogicalProcessor]
    online: Rate
    busy_cores: Rate
    interrupt_cores: Rate
    load_one: Level
    load_five: Level
    load_fifteen: Level
    runnable: Level
    tasks: Level
    stalled: Mapping[str, Rate]
    stalled_in_all_s: Mapping[str, float]  # the same time since the computer started
    stolen_in_all: float  # CPU time that went to other computers, in clock ticks since then
    memory: Mapping[str, Level]
    paging: Mapping[str, Rate]
    paged: Mapping[str, float]  # the same events since the computer started
    killed: int
    forks_per_s: Rate
    zram_bytes: Level
    soft_interrupts: Mapping[str, int]
    uptime_s: float | None
    own_cpu_s: float
    own_rss_bytes: float | None

    @property
    def used(self) -> Rate:
        """Busy share of the whole machine in each interval."""
        return self.busy_cores / self.online

    @property
    def logical_processors(self) -> float:
        """Number of logical CPUs that were online for most of the time."""
        return self.online.quantile(0.5) or 1.0

    @property
    def mean_clock_hz(self) -> Level | None:
        """Mean clock of the CPUs that tell it at each tick; None if none ever does."""
        clocks = [processor.clock_hz for processor in self.processors if processor.clock_hz]
        if not any(clock.is_known for clock in clocks):
            return None
        known = np.sum([~np.isnan(clock.values) for clock in clocks], axis=0)
        total = Level.total_of(self.line, [clock.known_or(0.0) for clock in clocks])
        return total / Level(self.line, np.where(known > 0, known, np.nan))

    @property
    def most_clock_hz(self) -> float | None:
        """The greatest clock of any processor, None if that is not published."""
        return max(
            (processor.max_clock_hz for processor in self.processors if processor.max_clock_hz),
            default=None,
        )

    def memory_bytes(self, word: str) -> Level:
        """Return one line of meminfo in bytes, unknown where it is not published."""
        return self.memory.get(word) or Level.unknown(self.line)

    def paging_per_s(self, *words: str) -> Rate:
        """Return the events a second of some words of vmstat together; unknown ones are 0."""
        known = [self.paging[word].known_or(0.0) for word in words if word in self.paging]
        return Rate.total_of(self.line, known)

    @property
    def managed_bytes(self) -> float:
        """The memory that the kernel manages, for most of the time."""
        return self.memory_bytes("MemTotal").median() or 0.0


class MachineCollector:
    """Gathers what ticks say of the machine."""

    fields = (
        "processors",
        "clocks_khz",
        "load",
        "uptime_s",
        "pressure",
        "memory",
        "paging",
        "zram_bytes",
        "own_cpu_s",
        "own_rss_bytes",
    )

    def __init__(self) -> None:
        self._times: Readings[int] = Readings(*KINDS)
        self._clocks: Readings[int] = Readings("khz")
        self._stalls: Readings[str] = Readings("some_us")
        self._memory: Readings[str] = Readings("kib")
        self._paging: Readings[str] = Readings("count")
        self._single: Readings[str] = Readings("value")
        self._soft_interrupts: Readings[str] = Readings("count")
        self._uptime_s: float | None = None
        self._own_cpu_s: list[float] = []
        self._own_rss_bytes: float | None = None

    def add(self, row: int, tick: Tick) -> None:
        """Add the figures of the ``row``-th tick."""
        online = sorted(tick.processors.times_clk)
        for number in online:
            times = tick.processors.times_clk[number][: len(KINDS)]
            # an older kernel counts fewer kinds
            self._times.add(row, number, [*times, *[0] * (len(KINDS) - len(times))])
        for number, khz in zip(online, tick.clocks_khz or [], strict=False):
            self._clocks.add(row, number, [khz or None])
        for resource, total in tick.pressure.items():
            self._stalls.add(row, resource, [total.some_us], tick.after_s("pressure"))
        for word, kib in (tick.memory or {}).items():
            self._memory.add(row, word, [kib])
        for word, count in (tick.paging or {}).items():
            self._paging.add(row, word, [count])
        for name, value in (
            ("forks", tick.processors.forks),
            ("runnable", tick.processors.runnable),
            ("load", tick.load.load_1 if tick.load else None),
            ("load 5", tick.load.load_5 if tick.load else None),
            ("load 15", tick.load.load_15 if tick.load else None),
            ("tasks", tick.load.tasks if tick.load else None),
            ("zram", tick.zram_bytes),
        ):
            self._single.add(row, name, [value])
        counted = tick.processors.soft_interrupts_by_kind
        for name, count in zip(SOFT_INTERRUPTS, counted, strict=False):
            self._soft_interrupts.add(row, name, [count])
        self._uptime_s = tick.uptime_s
        self._own_cpu_s = [*self._own_cpu_s[:1], tick.own_cpu_s]
        self._own_rss_bytes = tick.own_rss_bytes

    def finish(
        self, line: TimeLine, hardware: Mapping[int, Processor], impossible: Impossible
    ) -> MachineSeries:
        """Return the series."""
        clocks, single = self._clocks.over(line), self._single.over(line)
        paging, times = self._paging.over(line), self._times.over(line)
        stalls = self._stalls.over(line)
        processors = [
            LogicalProcessor(
                number,
                hardware.get(number),
                _shares(track),
                _clock_hz(clocks.get(number)) if clocks else None,
            )
            for number, track in sorted(times.items())
        ]
        # the share of each kind is of the time that the kernel accounted, and a processor that was
        # offline accounted none
        online = np.sum([~np.isnan(processor.busy.values) for processor in processors], axis=0)
        return MachineSeries(
            line=line,
            processors=processors,
            online=Rate(line, np.maximum(online, 1).astype(float)),
            busy_cores=Rate.total_of(
                line, [processor.busy.known_or(0.0) for processor in processors]
            ),
            interrupt_cores=Rate.total_of(
                line, [processor.share(*INTERRUPT_KINDS).known_or(0.0) for processor in processors]
            ),
            load_one=single["load"].level("value"),
            load_five=single["load 5"].level("value"),
            load_fifteen=single["load 15"].level("value"),
            runnable=single["runnable"].level("value"),
            tasks=single["tasks"].level("value"),
            stalled={
                resource: impossible.share("stall accounting", stalled)
                for resource, track in sorted(stalls.items())
                if (stalled := track.rate("some_us") / US_PER_S).is_known
            },
            stalled_in_all_s={
                resource: (track.total("some_us") or 0.0) / US_PER_S
                for resource, track in sorted(stalls.items())
            },
            stolen_in_all=sum(track.total("steal") or 0.0 for track in times.values()),
            memory={
                word: track.level("kib") * KIB
                for word, track in sorted(self._memory.over(line).items())
            },
            paging={word: track.rate("count") for word, track in sorted(paging.items())},
            paged={
                word: track.level("count").last() or 0.0 for word, track in sorted(paging.items())
            },
            killed=round(paging[KILLED].grown_in_all("count")) if KILLED in paging else 0,
            forks_per_s=single["forks"].rate("value"),
            zram_bytes=single["zram"].level("value"),
            soft_interrupts={
                name: round(track.rate("count").total())
                for name, track in self._soft_interrupts.over(line).items()
            },
            uptime_s=self._uptime_s,
            own_cpu_s=self._own_cpu_s[-1] - self._own_cpu_s[0],
            own_rss_bytes=self._own_rss_bytes,
        )


def _shares(track: Track) -> dict[str, Rate]:
    grown = {kind: track.rate(kind, forgives=FORGIVEN_CLK) for kind in KINDS}
    total = np.sum([rate.values for rate in grown.values()], axis=0)
    whole: Floats = np.where(total > 0, total, np.nan)
    return {kind: Rate(track.line, rate.values / whole) for kind, rate in grown.items()}


def _clock_hz(track: Track | None) -> Level | None:
    return track.level("khz") * HZ_PER_KHZ if track else None
