"""The machine as a whole over the ticks: processors, stalls, memory.

All arrays have the ticks (or, for rates, the intervals) along the first axis; NaN means that the
kernel did not say, or that the figure cannot be had for that interval.
"""

from dataclasses import dataclass

import numpy as np

from dunmist.computer import SOFT_INTERRUPTS, TIME_FIELDS
from dunmist.sampling import Tick
from dunmist.series.rates import Floats, increments, per_second

# guest time is counted in user time as well, and is left out
KINDS = TIME_FIELDS[:8]
BUSY_KINDS = ("user", "nice", "system", "irq", "softirq")
US_PER_S = 1e6
KIB = 1024.0


@dataclass(frozen=True, slots=True)
class MachineSeries:
    """``split`` has shape (intervals, processors, kinds of time) and sums to 1 over the kinds.

    ``busy_cores`` is what the kernel counted busy, in logical processors; ``interrupt_cores`` the
    part of it spent on interrupts, which belongs to no process. ``runnable`` counts the tasks that
    ran or waited for a processor at the moment of each tick, ``tasks`` all there were. ``stalled``
    and ``stalled_full`` are shares of time by resource, ``memory`` is in bytes by the kernel's
    word, ``paging`` in events per second. ``zram_bytes`` is memory held by compressed swap.
    ``soft_interrupts`` counts them by kind over the capture.
    """

    at_s: Floats
    interval_s: Floats
    numbers: list[int]
    split: Floats
    online: Floats
    busy_cores: Floats
    interrupt_cores: Floats
    clocks_hz: Floats | None
    load_one: Floats
    runnable: Floats
    tasks: Floats
    stalled: dict[str, Floats]
    stalled_full: dict[str, Floats]
    memory: dict[str, Floats]
    paging: dict[str, Floats]
    forks_per_s: Floats
    zram_bytes: Floats
    soft_interrupts: dict[str, int]
    uptime_s: float
    own_cpu_s: Floats
    own_rss_bytes: Floats

    @property
    def busy(self) -> Floats:
        """Busy share of each processor, shape (intervals, processors)."""
        busy: Floats = self.kind_of_time(*BUSY_KINDS)
        return busy

    @property
    def used(self) -> Floats:
        """Busy share of the whole machine in each interval."""
        return self.busy_cores / self.online

    @property
    def mean_clock_hz(self) -> Floats | None:
        """Mean clock of all processors at each tick, NaN where none says; None if never."""
        if self.clocks_hz is None or np.isnan(self.clocks_hz).all():
            return None
        known = (~np.isnan(self.clocks_hz)).sum(axis=1)
        total: Floats = np.nansum(self.clocks_hz, axis=1)
        return np.where(known > 0, total / np.maximum(known, 1), np.nan)

    def kind_of_time(self, *kinds: str) -> Floats:
        """Return the share of the given kinds of time, shape (intervals, processors)."""
        columns = [KINDS.index(kind) for kind in kinds]
        share: Floats = self.split[:, :, columns].sum(axis=2)
        return share

    def memory_bytes(self, word: str) -> Floats:
        """Return one line of meminfo in bytes at each tick, NaN where it is not published."""
        return self.memory.get(word, np.full(len(self.at_s), np.nan))


def machine_series(ticks: list[Tick]) -> MachineSeries:
    """Return the machine's series from its ticks, at least two of them."""
    at_s = np.array([tick.at_s for tick in ticks])
    interval_s = np.maximum(np.diff(at_s), 1e-6)
    numbers = sorted({number for tick in ticks for number in tick.processors.times_clk})
    split = _split(ticks, numbers)
    # the share of each kind is of the time that the kernel accounted, and a processor that was
    # offline accounted none
    online = np.maximum((~np.isnan(split).any(axis=2)).sum(axis=1), 1).astype(float)
    busy = np.nansum(split[:, :, [KINDS.index(kind) for kind in BUSY_KINDS]], axis=(1, 2))
    irq = np.nansum(split[:, :, [KINDS.index(kind) for kind in ("irq", "softirq")]], axis=(1, 2))
    return MachineSeries(
        at_s=at_s,
        interval_s=interval_s,
        numbers=numbers,
        split=split,
        online=online,
        busy_cores=busy,
        interrupt_cores=irq,
        clocks_hz=_clocks_hz(ticks, numbers),
        load_one=_column([tick.load.one if tick.load else None for tick in ticks]),
        tasks=_column([tick.load.tasks if tick.load else None for tick in ticks]),
        runnable=_column([tick.processors.runnable for tick in ticks]),
        stalled=_stalls(ticks, interval_s, "some_us"),
        stalled_full=_stalls(ticks, interval_s, "full_us"),
        memory={word: kib * KIB for word, kib in _words([t.memory for t in ticks]).items()},
        paging={
            word: per_second(counter, interval_s)
            for word, counter in _words([tick.paging for tick in ticks]).items()
        },
        forks_per_s=per_second(_column([tick.processors.forks for tick in ticks]), interval_s),
        zram_bytes=_column([tick.zram_bytes for tick in ticks]),
        soft_interrupts=_soft_interrupts(ticks),
        uptime_s=float(_column([ticks[-1].uptime_s])[0]),
        own_cpu_s=np.array([tick.own_cpu_s for tick in ticks]),
        own_rss_bytes=_column([tick.own_rss_bytes for tick in ticks]),
    )


def _split(ticks: list[Tick], numbers: list[int]) -> Floats:
    counters = np.full((len(ticks), len(numbers), len(KINDS)), np.nan)
    for row, tick in enumerate(ticks):
        for column, number in enumerate(numbers):
            times = tick.processors.times_clk.get(number)
            if times is not None:
                known = times[: len(KINDS)]
                counters[row, column, : len(known)] = known
                counters[row, column, len(known) :] = 0
    grown = np.diff(counters, axis=0)
    # iowait and idle may go back by a tick (proc_stat(5)); more than that is a reset
    grown[grown < -100] = np.nan
    grown = np.maximum(grown, 0)
    total = grown.sum(axis=2, keepdims=True)
    with np.errstate(invalid="ignore", divide="ignore"):
        split: Floats = np.where(total > 0, grown / total, np.nan)
    return split


def _soft_interrupts(ticks: list[Tick]) -> dict[str, int]:
    first, last = (tick.processors.soft_interrupts_by_kind for tick in (ticks[0], ticks[-1]))
    return {
        name: max(0, now - then)
        for name, then, now in zip(SOFT_INTERRUPTS, first, last, strict=False)
    }


def _column(values: list[float | None] | list[int | None]) -> Floats:
    return np.array([np.nan if value is None else value for value in values], dtype=float)


def _clocks_hz(ticks: list[Tick], numbers: list[int]) -> Floats | None:
    if all(tick.clocks_khz is None for tick in ticks):
        return None
    clocks = np.full((len(ticks), len(numbers)), np.nan)
    for row, tick in enumerate(ticks):
        online = sorted(tick.processors.times_clk)
        for number, khz in zip(online, tick.clocks_khz or [], strict=False):
            if khz:
                clocks[row, numbers.index(number)] = khz * 1e3
    return clocks


def _stalls(ticks: list[Tick], interval_s: Floats, kind: str) -> dict[str, Floats]:
    found = {}
    for resource in sorted({resource for tick in ticks for resource in tick.pressure}):
        totals = [tick.pressure.get(resource) for tick in ticks]
        counter = _column([getattr(total, kind) if total else None for total in totals])
        if not np.isnan(counter).all():
            found[resource] = np.minimum(increments(counter) / US_PER_S / interval_s, 1.0)
    return found


def _words(rows: list[dict[str, int] | None]) -> dict[str, Floats]:
    words = sorted({word for row in rows if row for word in row})
    return {word: _column([row.get(word) if row else None for row in rows]) for word in words}
