"""Compute what counters grew by between two ticks, for live views of a run.

One engine for all of them: the rules of the recorder, the live view, the progress of a capture, the
line for a status bar. The series of a capture follow the same rules over all ticks at once, with
arrays (``series/counters.py``, which says what they are); a test holds both against each other.
"""

from collections import Counter
from collections.abc import Hashable, Iterator, Mapping, Sequence
from typing import Generic, NamedTuple, TypeVar

from dunmist.computer import SECTOR_BYTES, TIME_FIELDS, Machine, ProcessorTimes, ProcessSample
from dunmist.sampling.records import Event, ProcessLine, Tick
from dunmist.sampling.sampler import Record

Key = TypeVar("Key", bound=Hashable)
Growth = tuple[float | None, ...]
US_PER_S, MS_PER_S, NS_PER_S = 1e6, 1e3, 1e9
# two readings nearer than this tell nothing of a counter that the kernel moves on every 10 ms
READ_APART_S = 0.02
# guest time is counted in user time as well, and is left out (proc_stat(5))
KINDS = TIME_FIELDS[:8]
USER, NICE, SYSTEM, IDLE, IO_WAIT, IRQ, SOFT_IRQ, STEAL = range(8)
# iowait and idle may go back a little (proc_stat(5)); more than that is a reset
FORGIVEN_CLK = 100
# a start is published in clock ticks, and is read a moment before the first tick's uptime
START_SLACK_S = 0.02
SWAPPED = ("pswpin", "pswpout")
KILLED = "oom_kill"


class ReadTime(NamedTuple):
    """Time of a reading: its tick, the begin of that tick, and the delay after it."""

    row: int
    at_s: float
    after_s: float = 0.0


class Counters(Generic[Key]):
    """Follows counters of several things by key.

    Counters of time are taken for the time between their own two readings. Amounts that come in
    bursts are not, where ``timely`` is false: their sum over a run is to be right.
    """

    def __init__(self, *, timely: bool = True, forgiven: float = 0.0) -> None:
        self._timely = timely
        self._forgiven = forgiven
        self._last: dict[Key, tuple[ReadTime, Sequence[float | None]]] = {}

    def per_second(
        self,
        key: Key,
        figures: Sequence[float | None],
        read_time: ReadTime,
        span_s: float,
        base: float | None = None,
    ) -> Growth:
        """Return the rate of each figure of one key per second; None is 'unknown'.

        ``span_s`` is how long the interval is that ends with this tick. ``base`` is what a thing
        had counted before it was first read, None if that is unknown.
        """
        before = self._last.get(key)
        self._last[key] = read_time, figures
        if span_s <= 0:
            return (None,) * len(figures)
        if before is None:
            first = (None if base is None else base,) * len(figures)
            return self._grown(figures, first, span_s)
        then, old = before
        read_apart_s = span_s
        # without a reading kept in between, the instance was read then all the same
        if self._timely and then.row == read_time.row - 1:
            read_apart_s = span_s + read_time.after_s - then.after_s
        if read_apart_s < READ_APART_S:
            return (None,) * len(figures)
        return self._grown(figures, old, read_apart_s)

    def forget(self, key: Key) -> None:
        """Drop what is known of a thing that is gone."""
        self._last.pop(key, None)

    def __iter__(self) -> Iterator[Key]:
        return iter(self._last)

    def _grown(
        self, figures: Sequence[float | None], old: Sequence[float | None], span_s: float
    ) -> Growth:
        grown: list[float | None] = []
        for now, then in zip(figures, old, strict=False):
            step = None if now is None or then is None else now - then
            if step is not None and step < 0:
                # it was reset, or is another one of the same name
                step = 0.0 if -self._forgiven <= step else None
            grown.append(None if step is None else step / span_s)
        return tuple(grown)


class CpuUse(NamedTuple):
    """Shares of one CPU's time by kind of ``KINDS``; they add up to 1."""

    shares: tuple[float, ...]

    @property
    def busy(self) -> float:
        """Share of its time in which it did not idle."""
        return sum(self.shares[kind] for kind in (USER, NICE, SYSTEM, IRQ, SOFT_IRQ))


class ProcessUse(NamedTuple):
    """Use of one process in an interval; None is 'unknown'."""

    cores: float | None
    waiting: float | None  # mean number of its tasks that waited for a CPU
    disk_bytes_per_s: float


NOTHING = ProcessUse(0.0, 0.0, 0.0)


class DiskUse(NamedTuple):
    """Work of one disk in an interval; None is 'unknown'."""

    busy: float | None
    queue: float | None  # mean number of requests under way
    bytes_per_s: float | None
    requests_per_s: float | None = None


class LinkUse(NamedTuple):
    """Bytes of one network link in an interval; None is 'unknown'."""

    received_bytes_per_s: float | None
    sent_bytes_per_s: float | None

    @property
    def fuller_bytes_per_s(self) -> float | None:
        """Of the direction that moved more."""
        known = [moved for moved in self if moved is not None]
        return max(known, default=None)


class Interval(NamedTuple):
    """Changes between two ticks; a key that is missing did not change."""

    span_s: float
    cpus: Mapping[int, CpuUse]  # by number; without those that tell nothing
    stalled: Mapping[str, float]  # share of time in which some task waited, by resource
    processes: Mapping[int, ProcessUse]  # by identity
    disks: Mapping[str, DiskUse]
    links: Mapping[str, LinkUse]
    sockets: Mapping[int, float]  # bytes a second of both directions, by identity
    throttles: int  # how often heat cut the clock
    paging_per_s: Mapping[str, float]  # by the kernel's word
    killed: int  # processes that were ended for lack of memory

    @property
    def busy_cores(self) -> float:
        """Busy time, as a number of CPUs."""
        return sum(cpu.busy for cpu in self.cpus.values())


def cpu_uses(
    counters: Counters[int], times: ProcessorTimes, read_time: ReadTime, span_s: float
) -> dict[int, CpuUse]:
    """Return the use of each CPU since its reading before."""
    uses = {}
    for number, clk in sorted(times.times_clk.items()):
        # an older kernel counts fewer kinds
        figures = [*clk[: len(KINDS)], *[0] * (len(KINDS) - len(clk))]
        grown = counters.per_second(number, figures, read_time, span_s)
        known = [part for part in grown if part is not None]
        total = sum(known)
        # an interval of which one kind is unknown has no shares
        if len(known) == len(KINDS) and total > 0:
            uses[number] = CpuUse(tuple(part / total for part in known))
    return uses


def cpu_counters() -> Counters[int]:
    """Return counters that follow the times of CPUs."""
    return Counters(forgiven=FORGIVEN_CLK)


class Deltas:
    """Follows the records of a run; ``add`` gives the interval that ends with a tick."""

    def __init__(self, machine: Machine) -> None:
        self._clk_per_s = machine.clock_ticks_per_s
        self._row = -1
        self._before_s = 0.0
        self._began_s: float | None = None
        self._starts_clk: dict[int, int] = {}
        self._cpus = cpu_counters()
        self._stalls: Counters[str] = Counters()
        self._times: Counters[int] = Counters()
        self._threads: Counters[tuple[int, int]] = Counters()
        self._bytes: Counters[int] = Counters(timely=False)
        self._disks: Counters[str] = Counters()
        self._links: Counters[str] = Counters()
        self._sockets: Counters[int] = Counters(timely=False)
        self._throttles: Counters[int] = Counters(timely=False)
        self._paging: Counters[str] = Counters(timely=False)

    def add(self, record: Record) -> Interval | None:
        """Take one record; return the interval that ended with it, None for all but ticks."""
        if isinstance(record, Tick):
            return self._tick(record)
        if isinstance(record, ProcessLine):
            if record.tick > 0:
                self._starts_clk[record.id] = record.facts.start_clk
        elif isinstance(record, Event) and record.what == "exit":
            for identity in record.processes:
                self._times.forget(identity)
                self._bytes.forget(identity)
                for key in [key for key in self._threads if key[0] == identity]:
                    self._threads.forget(key)
        return None

    def _tick(self, tick: Tick) -> Interval | None:
        self._row += 1
        span_s = tick.at_s - self._before_s if self._row else 0.0
        self._before_s = tick.at_s
        if not self._row:
            self._began_s = tick.uptime_s
        killed = self._paged(tick, span_s, (KILLED,)).get(KILLED, 0.0)
        interval = Interval(
            span_s=span_s,
            cpus=cpu_uses(self._cpus, tick.processors, self._read_time(tick), span_s),
            stalled=self._stalled(tick, span_s),
            processes=self._processes(tick, span_s),
            disks=self._disk_uses(tick, span_s),
            links=self._link_uses(tick, span_s),
            sockets=self._socket_bytes(tick, span_s),
            throttles=self._throttled(tick, span_s),
            paging_per_s=self._paged(tick, span_s, SWAPPED),
            killed=round(killed * span_s),
        )
        self._starts_clk.clear()
        return interval if span_s > 0 else None

    def _read_time(self, tick: Tick, after_s: float = 0.0) -> ReadTime:
        return ReadTime(self._row, tick.at_s, after_s)

    def _stalled(self, tick: Tick, span_s: float) -> dict[str, float]:
        # a total that is not in the tick stood still
        stalled = dict.fromkeys(self._stalls, 0.0)
        read_time = self._read_time(tick, tick.after_s("pressure"))
        for resource, total in tick.pressure.items():
            (grown,) = self._stalls.per_second(resource, [total.some_us], read_time, span_s)
            if grown is None:
                stalled.pop(resource, None)
            else:
                stalled[resource] = min(1.0, grown / US_PER_S)
        return stalled

    def _processes(self, tick: Tick, span_s: float) -> dict[int, ProcessUse]:
        uses = {sample.process: self._process(tick, sample, span_s) for sample in tick.processes}
        waited: Counter[int] = Counter()
        for thread in tick.threads:
            read_time = self._read_time(tick, thread.after_ms / MS_PER_S)
            key = thread.process, thread.tid
            (delay_ns,) = self._threads.per_second(key, [thread.delay_ns], read_time, span_s)
            waited[thread.process] += round(delay_ns or 0.0)
        for identity, delay_ns in waited.items():
            use = uses.get(identity, NOTHING)
            # the counter of a process is that of its first thread
            most = max(use.waiting or 0.0, delay_ns / NS_PER_S)
            uses[identity] = use._replace(waiting=most)
        return uses

    def _process(self, tick: Tick, sample: ProcessSample, span_s: float) -> ProcessUse:
        read_time = self._read_time(tick, sample.after_ms / MS_PER_S)
        base = self._base(sample.process)
        times = (sample.user_clk + sample.system_clk, sample.delay_ns)
        clk, delay_ns = self._times.per_second(sample.process, times, read_time, span_s, base)
        moved = (sample.read_bytes, sample.write_bytes)
        moved_per_s = self._bytes.per_second(sample.process, moved, read_time, span_s, base)
        return ProcessUse(
            None if clk is None else clk / self._clk_per_s,
            None if delay_ns is None else delay_ns / NS_PER_S,
            sum(part or 0.0 for part in moved_per_s),
        )

    def _base(self, identity: int) -> float | None:
        """Return 0 for a process that began during the run: all that it has counted is of it."""
        start_clk = self._starts_clk.get(identity)
        if start_clk is None or self._row <= 0:
            return None
        # without an uptime the first sight has to do
        if self._began_s is None:
            return 0.0
        began_inside = start_clk / self._clk_per_s >= self._began_s - START_SLACK_S
        return 0.0 if began_inside else None

    def _disk_uses(self, tick: Tick, span_s: float) -> dict[str, DiskUse]:
        uses, read_time = {}, self._read_time(tick, tick.after_s("disks"))
        for disk in tick.disks:
            sectors_moved = disk.read_sectors + disk.written_sectors
            requests_done = disk.reads + disk.writes
            figures = (disk.busy_ms, disk.queued_ms, sectors_moved, requests_done)
            grown = self._disks.per_second(disk.name, figures, read_time, span_s)
            busy, queued, sectors, requests = grown
            uses[disk.name] = DiskUse(
                None if busy is None else min(1.0, busy / MS_PER_S),
                None if queued is None else queued / MS_PER_S,
                None if sectors is None else sectors * SECTOR_BYTES,
                requests,
            )
        return uses

    def _link_uses(self, tick: Tick, span_s: float) -> dict[str, LinkUse]:
        read_time = self._read_time(tick, tick.after_s("links"))
        return {
            link.name: LinkUse(
                *self._links.per_second(
                    link.name, (link.received_bytes, link.sent_bytes), read_time, span_s
                )
            )
            for link in tick.links
        }

    def _socket_bytes(self, tick: Tick, span_s: float) -> dict[int, float]:
        read_time, moved = self._read_time(tick, tick.after_s("sockets")), {}
        for sample in tick.sockets:
            figures = (sample.sent_bytes, sample.received_bytes)
            grown = self._sockets.per_second(sample.socket, figures, read_time, span_s)
            moved[sample.socket] = sum(part or 0.0 for part in grown)
        for identity in tick.sockets_ended:
            self._sockets.forget(identity)
        return moved

    def _throttled(self, tick: Tick, span_s: float) -> int:
        read_time, grown = self._read_time(tick), 0.0
        for count in tick.throttles:
            figures = (count.core, count.package)
            rates = self._throttles.per_second(count.processor, figures, read_time, span_s)
            grown += sum(rate or 0.0 for rate in rates)
        return round(grown * span_s)

    def _paged(self, tick: Tick, span_s: float, words: Sequence[str]) -> dict[str, float]:
        read_time, paging = self._read_time(tick), tick.paging or {}
        rates = {}
        for word in words:
            if word in paging:
                (rate,) = self._paging.per_second(word, [paging[word]], read_time, span_s)
                if rate is not None:
                    rates[word] = rate
        return rates
