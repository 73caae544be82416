"""The samples of all processes in columns, and what each grew by since the one before it.

A capture has a sample of a process only where its line changed, so the difference to the sample
before it belongs to the interval that ends at its tick. What ended between two ticks is in
``short_lived``. The columns hold each sample once, compactly: an hour of five hundred processes has
two million of them. ``processes`` makes objects of them.
"""

import math
from array import array
from collections import Counter
from collections.abc import Mapping
from functools import cached_property
from operator import attrgetter
from typing import Any, NamedTuple

import numpy as np

from dunmist.applications import Grouping
from dunmist.computer import Machine, ProcessDetail, ProcessSample
from dunmist.sampling import ExitSum, Tick
from dunmist.series.conservation import Impossible
from dunmist.series.counters import Readings, increments, late_start, span_factors
from dunmist.series.reaped_bytes import whole_bytes, without_reaped
from dunmist.series.timeline import Floats, Ints, Level, Rate
from dunmist.series.wait_kinds import wait_code

NS_PER_S = 1e9
MS_PER_S = 1e3
# the fields kept of each sample, and their bytes
COLUMNS = {
    "row": "i",
    "identity": "i",
    "processor": "h",
    "own_clk": "d",
    "children_clk": "d",
    "major_faults": "d",
    "rss_pages": "d",
    "shared_pages": "d",
    "delay_ns": "d",
    "nice": "b",
    "read_bytes": "d",
    "write_bytes": "d",
    "io_delay_clk": "d",
    "wait": "b",
    "threads": "i",
    "state": "B",
    "after_s": "f",
}
# columns that are fields of a sample as they are, and those of which the kernel may say nothing
PLAIN = {
    "identity": "process",
    "processor": "processor",
    "major_faults": "major_faults",
    "rss_pages": "rss_pages",
    "nice": "nice",
    "io_delay_clk": "io_delay_clk",
    "threads": "threads",
}
UNKNOWN_AT_TIMES = ("delay_ns", "read_bytes", "write_bytes")
# a hundred and fifty thousand samples are no rarity: fields are read by one call a sample
READ_PLAIN = attrgetter(*PLAIN.values())
READ_OTHERS = attrgetter(*UNKNOWN_AT_TIMES)
# the kernel counts time by clock ticks, of which each process may have one too many
CLK_ROUNDING = 1


class ProcessCollector:
    """Gathers what ticks and events say of processes."""

    fields = ("processes", "threads", "details", "exits", "alive")

    def __init__(self) -> None:
        self.columns: dict[str, array[Any]] = {name: array(code) for name, code in COLUMNS.items()}
        self.exits: list[tuple[int, ExitSum]] = []
        self.details: dict[int, tuple[ProcessDetail, ProcessDetail]] = {}
        self.thread_names: dict[tuple[int, int], str] = {}
        self.threads: Readings[tuple[int, int]] = Readings("run_ns", "delay_ns")
        self.last: dict[int, ProcessSample] = {}
        self.first_row: dict[int, int] = {}
        self.ended_row: dict[int, int] = {}

    def add(self, row: int, tick: Tick) -> None:
        """Add the figures of the ``row``-th tick."""
        samples, columns = tick.processes, self.columns
        columns["row"].extend([row] * len(samples))
        for name, values in zip(PLAIN, zip(*map(READ_PLAIN, samples), strict=True), strict=False):
            columns[name].extend(values)
        others = zip(*map(READ_OTHERS, samples), strict=True)
        for name, values in zip(UNKNOWN_AT_TIMES, others, strict=False):
            columns[name].extend([math.nan if value is None else value for value in values])
        for name, result in (
            ("own_clk", [sample.user_clk + sample.system_clk for sample in samples]),
            (
                "children_clk",
                [sample.children_user_clk + sample.children_system_clk for sample in samples],
            ),
            ("shared_pages", [sample.shared_pages or 0 for sample in samples]),
            ("wait", [wait_code(sample.state, sample.waits_in) for sample in samples]),
            # one byte a state: what is no ASCII letter comes from a damaged capture
            ("state", [ord(sample.state[:1] or "?") & 0x7F for sample in samples]),
            ("after_s", [sample.after_ms / MS_PER_S for sample in samples]),
        ):
            columns[name].extend(result)
        self.last.update({sample.process: sample for sample in samples})
        for thread in tick.threads:
            key = (thread.process, thread.tid)
            if thread.name is not None and key in self.thread_names:
                # reading it began again: what it did in between does not belong to this interval
                self.threads.add(row, key, [None, None])
            self.threads.add(row, key, [thread.run_ns, thread.delay_ns], thread.after_ms / MS_PER_S)
            if thread.name is not None:
                self.thread_names[key] = thread.name
        self.exits += [(row, ended) for ended in tick.exits]
        for detail in tick.details:
            # the first and the last detail tell growth; those between tell nothing more
            first, _ = self.details.get(detail.process, (detail, detail))
            self.details[detail.process] = (first, detail)


class CaptureContext(NamedTuple):
    """Other parts of the capture that the series of processes need.

    ``online`` is the number of logical CPUs in each interval, ``began_s`` the uptime at the
    first tick, None if it is unknown.
    """

    grouping: Grouping
    about: Machine
    online: Rate
    began_s: float | None
    impossible: Impossible
    started: Mapping[int, Counter[str]]  # short-lived programs by application, counts by name


class Samples:
    """All samples by identity and row, and what each grew by since the one before it."""

    def __init__(
        self, collected: ProcessCollector, inside: set[int], basis: CaptureContext
    ) -> None:
        columns = collected.columns
        # by process, then by tick: what is next to each other is differenced
        order = np.lexsort((np.asarray(columns["row"]), np.asarray(columns["identity"])))
        # the collector's own columns are given up meanwhile, so that all is held once only
        self.table = {name: np.asarray(columns.pop(name))[order] for name in COLUMNS}
        self.basis = basis
        self.line = basis.impossible.line
        self.row, self.identity = self.table["row"], self.table["identity"]
        count = len(self.row)
        self.same = np.zeros(count, dtype=bool)
        self.same[1:] = self.identity[1:] == self.identity[:-1]
        first = ~self.same
        starts = np.flatnonzero(first)
        self.slices = {
            int(self.identity[start]): slice(start, end)
            for start, end in zip(starts, np.append(starts, count)[1:], strict=True)
        }
        # the use before the first sample: unknown for a process that started before the capture
        self.base = np.full(count, np.nan)
        self.base[first & np.isin(self.identity, list(inside))] = 0.0
        self.span_factors = span_factors(self.line, self.row, self.table["after_s"], self.same)
        clk_per_s = basis.about.clock_ticks_per_s
        self.grown = {
            "own_s": self._possible_s(self._timely("own_clk") / clk_per_s),
            # held against what children used in all
            "children_s": self._grown("children_clk") / clk_per_s,
            "major_faults": self._grown("major_faults"),
            "delay_s": self._timely("delay_ns") / NS_PER_S,
            "io_delay_s": self._timely("io_delay_clk") / clk_per_s,
            "read_bytes": self._moved("read_bytes", collected),
            "write_bytes": self._moved("write_bytes", collected),
        }

    def _timely(self, name: str) -> Floats:
        """Return the growth of a time counter, scaled from its readings' span to its interval.

        Amounts are not: bytes come in bursts, and their sum over the capture is to be right.
        """
        return self._grown(name) * self.span_factors

    def _moved(self, name: str, collected: ProcessCollector) -> Floats:
        """Return the bytes that each reading grew by, each counted with one process only."""
        grown = self._grown(name)
        grown *= late_start(self.span_factors, self.row)
        children = self._grown("children_clk")
        waiters = {int(identity) for identity in np.unique(self.identity[children > 0])}
        whole = whole_bytes(collected, name)
        growths = {
            identity: self._dense(grown, self.slices[identity])
            for identity in waiters
            if identity in self.slices
        }
        for identity, own in without_reaped(
            growths, whole, waiters, collected, self.basis.grouping
        ).items():
            span = self.slices[identity]
            inside = self.row[span] > 0
            grown[span][inside] = own[self.row[span][inside] - 1]
        return grown

    def _dense(self, grown: Floats, span: slice) -> Floats:
        """Return the growth of one process in each interval, unknown as nothing."""
        dense = np.zeros(self.line.intervals)
        inside = self.row[span] > 0
        dense[self.row[span][inside] - 1] = np.nan_to_num(grown[span][inside])
        return dense

    def _grown(self, name: str) -> Floats:
        grown = increments(self.table[name], self.same, self.base)
        # growth before the first tick is not part of the capture
        grown[self.row == 0] = np.nan
        inside = self.row > 0
        grown[inside & self.line.is_gap[np.where(inside, self.row - 1, 0)]] = np.nan
        return grown

    def _possible_s(self, own_s: Floats) -> Floats:
        """Return CPU time without what no computer of so many processors can give."""
        line, impossible = self.line, self.basis.impossible
        inside = self.row > 0
        interval = np.where(inside, self.row - 1, 0)
        room_s = self.basis.online.values * line.interval_s * impossible.most_share
        # a process may be given a whole clock tick of which it ran the last moment only
        rounding_s = CLK_ROUNDING / self.basis.about.clock_ticks_per_s
        beyond = inside & (own_s > room_s[interval] + rounding_s * self.span_factors)
        # and together they have no more than one alone
        together_s = np.zeros(line.intervals)
        kept = inside & ~beyond
        np.add.at(together_s, interval[kept], np.nan_to_num(own_s[kept]))
        count = np.bincount(interval[kept & (own_s > 0)], minlength=line.intervals)
        crowded = together_s > room_s + count * rounding_s
        beyond |= kept & crowded[interval] & (own_s > 0)
        impossible.dropped["CPU time of processes"] += int(beyond.sum())
        return np.where(beyond, np.nan, own_s)

    def spread(self, amounts: Floats, of: Ints, applications: int) -> Floats:
        """Return amounts of samples a second, shape (intervals, applications)."""
        total = np.zeros((self.line.intervals, applications))
        inside = self.row > 0
        cells = (self.row[inside] - 1, of[self.identity[inside]])
        # several samples of an application meet in one interval; an index alone would overwrite
        np.add.at(total, cells, np.nan_to_num(amounts[inside]))
        total /= self.line.interval_s[:, None]
        return total

    def held(self, level: Floats, of: Ints, applications: int, ended: dict[int, int]) -> Floats:
        """Return the sums of a level of processes, shape (ticks, applications)."""
        change = np.zeros((self.line.ticks, applications))
        # the sum of a level is followed by its changes, as samples are there only where one changed
        step = level.astype(float)
        step[1:][self.same[1:]] -= level[:-1][self.same[1:]]
        np.add.at(change, (self.row, of[self.identity]), step)
        for identity, span in self.slices.items():
            row = ended.get(identity)
            # an exited process gives back the memory that it held
            if row is not None and row < self.line.ticks:
                change[row, of[identity]] -= level[span.stop - 1]
        held: Floats = np.cumsum(change, axis=0)
        return held

    def rate_of(self, identity: int, name: str, end: int | None) -> Rate:
        """Return the rate of a counter of one process, unknown outside its life."""
        values = np.full(self.line.intervals, np.nan)
        span = self.slices.get(identity)
        if span is not None:
            rows, grown = self.row[span], self.grown[name][span]
            # in the interval in which it ended it was there for a part only
            values[rows[0] : None if end is None else end - 1] = 0.0
            inside = rows > 0
            values[rows[inside] - 1] = grown[inside]
        return Rate(self.line, self.line.per_second(values))

    def level_of(self, identity: int, values: Floats, end: int | None) -> Level:
        """Return a level of one process; ``values`` are those of all samples."""
        level = np.full(self.line.ticks, np.nan)
        span = self.slices.get(identity)
        if span is not None:
            for row, value in zip(self.row[span], values[span], strict=True):
                level[row:end] = value
        return Level(self.line, level)

    @cached_property
    def private_pages(self) -> Floats:
        """Pages of each sample that are neither of files nor shared."""
        pages: Floats = np.maximum(self.table["rss_pages"] - self.table["shared_pages"], 0)
        return pages
