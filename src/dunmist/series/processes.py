"""Processes and applications over the intervals of a capture.

A capture has a sample of a process only where its line changed, so the difference to the sample
before it belongs to the interval that ends at its tick. What ended between two ticks is in
``short_lived``.
"""

from array import array
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dunmist.applications import Grouping
from dunmist.computer import ProcessDetail, ProcessSample
from dunmist.sampling import ExitSum, Tick
from dunmist.series.rates import NS_PER_S, Floats, Ints
from dunmist.series.short_lived import ChildTime, late_use
from dunmist.series.threads import (
    OneThread,
    ThreadShares,
    ThreadUse,
    one_thread,
    thread_shares,
    thread_use,
)
from dunmist.series.wait_kinds import WAIT_KINDS, wait_code

# what is kept of each sample, and in how many bytes: an hour of five hundred processes is two
# million of them
COLUMNS = {
    "tick": "i", "process": "i", "processor": "h", "own_clk": "q", "children_clk": "q",
    "major_faults": "q", "rss_pages": "q", "shared_pages": "q", "delay_ns": "q", "nice": "b",
    "read_bytes": "q", "write_bytes": "q", "io_delay_clk": "q", "wait": "b",
}  # fmt: skip
UNKNOWN = -1
PROCESSORS_MOST = 8191  # the kernel's own greatest number, CONFIG_NR_CPUS
# a process is looked at as a candidate for one full processor from this mean use on
CANDIDATE_CORES = 0.3


class ProcessUse(NamedTuple):
    """Processor time of single processes: what each used in each interval in which it used some."""

    row: NDArray[np.int32]
    process: NDArray[np.int32]
    seconds: NDArray[np.float32]

    def over(self, identity: int, interval_s: Floats) -> Floats:
        """Return one process's use in logical processors, shape (intervals,)."""
        mine = self.process == identity
        total = np.zeros(len(interval_s))
        np.add.at(total, self.row[mine], self.seconds[mine])
        cores: Floats = total / interval_s
        return cores


@dataclass(frozen=True, slots=True)
class ProcessSeries:
    """Arrays over intervals (or ticks) and applications, and totals over identities.

    ``cores`` is what an application's own processes used, ``short_lived_cores`` what children that
    were never or only partly seen used, ``all_cores`` both together; in logical processors, shape
    (intervals, apps).
    ``waiting`` is run-queue delay per second of time: the mean number of its tasks that waited for
    a processor; ``io_waiting`` the same for storage. ``read_bytes_per_s`` and
    ``write_bytes_per_s`` are traffic with storage. ``unclaimed_cores`` is what ended without an
    ancestor that was seen, shape (intervals,). ``rss_bytes`` and ``private_bytes`` have shape
    (ticks, apps), and so has ``blocked``: processes in state D by what they waited for at the tick.
    ``low_priority`` is the share of its time an application spent at a raised nice
    value. ``one_core`` maps an identity to its busiest thread, for programs with one such.
    ``use`` is the use of single processes over time. ``processor_cpu_s`` has the processor time of
    each application by the logical processor on which it was seen at the end of each interval,
    shape (processor numbers, apps).
    ``details`` holds the first and the newest of each identity, ``short_lived_programs`` how many
    of which name each application started that were never seen.
    """

    grouping: Grouping
    cores: Floats
    short_lived_cores: Floats
    all_cores: Floats
    unclaimed_cores: Floats
    waiting: Floats
    io_waiting: Floats
    read_bytes_per_s: Floats
    write_bytes_per_s: Floats
    major_faults_per_s: Floats
    rss_bytes: Floats
    private_bytes: Floats
    blocked: dict[str, NDArray[np.int16]]
    low_priority: Floats
    process_cpu_s: Floats
    use: ProcessUse
    processor_cpu_s: Floats
    one_core: dict[int, OneThread]
    details: dict[int, tuple[ProcessDetail, ProcessDetail]]
    short_lived_programs: dict[int, dict[str, int]]
    threads: list[ThreadUse]
    last: dict[int, ProcessSample]
    first_tick: dict[int, int]
    ended_tick: dict[int, int]


class Collector:
    """Gathers the samples of a capture as it is read, compactly."""

    def __init__(self, clock_ticks_per_s: int) -> None:
        self.clock_ticks_per_s = clock_ticks_per_s
        self.columns = {name: array(code) for name, code in COLUMNS.items()}
        self.exits: list[tuple[int, ExitSum]] = []
        self.details: dict[int, tuple[ProcessDetail, ProcessDetail]] = {}
        self.thread_names: dict[tuple[int, int], str] = {}
        self.threads: dict[tuple[int, int], list[tuple[int, int, int]]] = defaultdict(list)
        self.last: dict[int, ProcessSample] = {}
        self.first_tick: dict[int, int] = {}
        self.ended_tick: dict[int, int] = {}

    def add(self, row: int, tick: Tick) -> None:
        """Take the samples of the tick that is the ``row``-th of the capture."""
        columns = self.columns
        for sample in tick.processes:
            columns["tick"].append(row)
            columns["process"].append(sample.process)
            columns["processor"].append(min(sample.processor, PROCESSORS_MOST))
            columns["own_clk"].append(sample.user_clk + sample.system_clk)
            columns["children_clk"].append(sample.children_user_clk + sample.children_system_clk)
            columns["major_faults"].append(sample.major_faults)
            columns["rss_pages"].append(sample.rss_pages)
            columns["shared_pages"].append(sample.shared_pages or 0)
            columns["delay_ns"].append(_or_unknown(sample.delay_ns))
            columns["nice"].append(sample.nice)
            columns["read_bytes"].append(_or_unknown(sample.read_bytes))
            columns["write_bytes"].append(_or_unknown(sample.write_bytes))
            columns["io_delay_clk"].append(sample.io_delay_clk)
            columns["wait"].append(wait_code(sample.state, sample.waits_in))
            self.last[sample.process] = sample
        for thread in tick.threads:
            readings = self.threads[thread.process, thread.tid]
            readings.append((row, thread.run_ns, thread.delay_ns))
            if thread.name is not None:
                self.thread_names[thread.process, thread.tid] = thread.name
        self.exits += [(row, one) for one in tick.exits]
        for detail in tick.details:
            first, _ = self.details.get(detail.process, (detail, detail))
            self.details[detail.process] = (first, detail)


@dataclass(frozen=True, slots=True)
class _Steps:
    """Differences between a process's samples; ``row`` is the interval each belongs to."""

    row: Ints
    process: Ints
    processor: Ints
    own_s: Floats
    children_s: Floats
    major_faults: Floats
    delay_s: Floats
    io_delay_s: Floats
    read_bytes: Floats
    write_bytes: Floats
    nice: Ints


def process_series(
    collected: Collector,
    grouping: Grouping,
    interval_s: Floats,
    page_bytes: int,
) -> ProcessSeries:
    """Return the series of all processes and applications of a capture."""
    table = _sorted(collected)
    steps = _steps(table, collected)
    intervals, apps = len(interval_s), len(grouping.applications)
    of = np.zeros(max(grouping.application_of, default=0) + 1, dtype=np.int64)
    of[list(grouping.application_of)] = list(grouping.application_of.values())
    app = of[steps.process]

    def spread(amounts: Floats) -> Floats:
        total = np.zeros((intervals, apps))
        np.add.at(total, (steps.row, app), amounts)
        total /= interval_s[:, None]
        return total

    def added(amounts: Floats, late: dict[int, Floats]) -> Floats:
        for number, more in late.items():
            amounts[:, number] += more
        return amounts

    cores = spread(steps.own_s)
    low = spread(np.where(steps.nice > 0, steps.own_s, 0.0)).sum(axis=0)
    per_process = np.zeros(len(of))
    np.add.at(per_process, steps.process, steps.own_s)
    candidates = np.flatnonzero(per_process >= CANDIDATE_CORES * interval_s.sum() / 2)
    use = _use(steps)
    process_cores = {int(one): use.over(int(one), interval_s) for one in candidates}
    threads = thread_shares(collected.threads, interval_s)
    late = late_use(_children(steps), collected, grouping, interval_s)
    held = _Held(table, collected, of, (intervals + 1, apps))
    cores = added(cores, late.own_cores)
    short_lived_cores = added(np.zeros_like(cores), late.short_lived_cores)
    return ProcessSeries(
        grouping=grouping,
        cores=cores,
        short_lived_cores=short_lived_cores,
        all_cores=cores + short_lived_cores,
        unclaimed_cores=late.unclaimed_cores,
        waiting=spread(_waiting(steps, threads, interval_s)),
        io_waiting=spread(steps.io_delay_s),
        read_bytes_per_s=added(spread(steps.read_bytes), late.read_bytes_per_s),
        write_bytes_per_s=added(spread(steps.write_bytes), late.write_bytes_per_s),
        major_faults_per_s=spread(steps.major_faults),
        rss_bytes=held.over_ticks(table["rss_pages"]) * page_bytes,
        private_bytes=held.over_ticks(np.maximum(table["rss_pages"] - table["shared_pages"], 0))
        * page_bytes,
        blocked={
            kind: held.over_ticks((table["wait"] == code).astype(np.int64)).astype(np.int16)
            for code, kind in enumerate(WAIT_KINDS)
            if (table["wait"] == code).any()
        },
        low_priority=low / np.maximum(cores.sum(axis=0), 1e-12),
        process_cpu_s=per_process,
        use=use,
        processor_cpu_s=_by_processor(steps, app, apps),
        one_core=_one_core(collected, steps, process_cores, threads, interval_s),
        details=collected.details,
        short_lived_programs=late.programs,
        threads=thread_use(collected.threads, collected.thread_names),
        last=collected.last,
        first_tick=collected.first_tick,
        ended_tick=collected.ended_tick,
    )


def _or_unknown(value: int | None) -> int:
    return UNKNOWN if value is None else value


def _sorted(collected: Collector) -> dict[str, Ints]:
    """Return the columns by process and tick; the collector's own are given up meanwhile."""
    columns = collected.columns
    order = np.lexsort((np.asarray(columns["tick"]), np.asarray(columns["process"])))
    return {name: np.asarray(columns.pop(name))[order] for name in COLUMNS}


def _steps(table: dict[str, Ints], collected: Collector) -> _Steps:
    process, tick = table["process"], table["tick"]
    first = np.ones(len(process), dtype=bool)
    first[1:] = process[1:] != process[:-1]
    started_inside = np.array([collected.first_tick.get(int(p), 0) > 0 for p in process[first]])
    # all that a process used before the tick at which it was first seen belongs to that interval
    # when it started inside the capture, and to the time before when it did not
    fresh = np.zeros(len(process), dtype=bool)
    fresh[first] = started_inside

    def grown(name: str) -> Floats:
        values = table[name].astype(float)
        values[table[name] == UNKNOWN] = np.nan
        step = np.empty(len(values))
        step[1:] = values[1:] - values[:-1]
        step[first] = np.where(fresh[first], values[first], 0.0)
        return np.nan_to_num(np.maximum(step, 0.0))

    kept = (tick > 0) & (~first | fresh)
    return _Steps(
        row=(tick - 1)[kept],
        process=process[kept],
        processor=table["processor"][kept],
        own_s=grown("own_clk")[kept] / collected.clock_ticks_per_s,
        children_s=grown("children_clk")[kept] / collected.clock_ticks_per_s,
        major_faults=grown("major_faults")[kept],
        delay_s=grown("delay_ns")[kept] / NS_PER_S,
        io_delay_s=grown("io_delay_clk")[kept] / collected.clock_ticks_per_s,
        read_bytes=grown("read_bytes")[kept],
        write_bytes=grown("write_bytes")[kept],
        nice=table["nice"][kept],
    )


def _use(steps: _Steps) -> ProcessUse:
    some = steps.own_s > 0
    return ProcessUse(
        steps.row[some].astype(np.int32),
        steps.process[some].astype(np.int32),
        steps.own_s[some].astype(np.float32),
    )


def _by_processor(steps: _Steps, app: Ints, apps: int) -> Floats:
    seen = steps.processor >= 0
    total = np.zeros((int(steps.processor.max(initial=-1)) + 1, apps))
    np.add.at(total, (steps.processor[seen], app[seen]), steps.own_s[seen])
    return total


def _of_one(steps: _Steps, identity: int, amounts: Floats, interval_s: Floats) -> Floats:
    mine = steps.process == identity
    total = np.zeros(len(interval_s))
    np.add.at(total, steps.row[mine], amounts[mine])
    share: Floats = total / interval_s
    return share


def _waiting(steps: _Steps, threads: dict[int, ThreadShares], interval_s: Floats) -> Floats:
    """Return each step's waiting time, that of all threads where they were read."""
    waiting = steps.delay_s.copy()
    for identity, shares in threads.items():
        mine = np.flatnonzero(steps.process == identity)
        rows = steps.row[mine]
        waiting[mine] = np.maximum(waiting[mine], (shares.waited * interval_s)[rows])
    return waiting


def _one_core(
    collected: Collector,
    steps: _Steps,
    process_cores: dict[int, Floats],
    threads: dict[int, ThreadShares],
    interval_s: Floats,
) -> dict[int, OneThread]:
    found: dict[int, OneThread] = {}
    for identity, cores in process_cores.items():
        one: OneThread | None
        if collected.last[identity].threads == 1:
            waited = _of_one(steps, identity, steps.delay_s, interval_s)
            one = OneThread(np.minimum(cores, 1.0), np.minimum(cores + waited, 1.0))
        else:
            one = one_thread(cores, threads.get(identity))
        if one is not None:
            found[identity] = one
    return found


def _children(steps: _Steps) -> Iterator[ChildTime]:
    for place in np.flatnonzero(steps.children_s > 0):
        row, parent = int(steps.row[place]), int(steps.process[place])
        yield ChildTime(row, parent, float(steps.children_s[place]))


class _Held:
    """Sums a level (not a counter) of processes over applications at each tick."""

    def __init__(
        self, table: dict[str, Ints], collected: Collector, of: Ints, shape: tuple[int, int]
    ) -> None:
        self._process, self._tick, self._shape = table["process"], table["tick"], shape
        self._of = of
        self._ended = collected.ended_tick

    def over_ticks(self, level: Ints) -> Floats:
        """Return the level of each application at each tick, shape (ticks, apps)."""
        change = np.zeros(self._shape)
        step = level.astype(float)
        same = self._process[1:] == self._process[:-1]
        step[1:][same] -= level[:-1][same]
        np.add.at(change, (self._tick, self._of[self._process]), step)
        newest: Ints = np.flatnonzero(np.append(~same, True)[: len(level)])
        for row in newest:
            identity = int(self._process[row])
            ended = self._ended.get(identity)
            if ended is not None and ended < self._shape[0]:
                change[ended, self._of[identity]] -= level[row]
        held: Floats = np.cumsum(change, axis=0)
        return held
