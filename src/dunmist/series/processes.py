"""Makes the objects of a capture: its processes and applications with all that is known of them."""

from collections import Counter
from collections.abc import Mapping, Sequence
from functools import partial
from typing import NamedTuple

import numpy as np

from dunmist.applications import Grouping
from dunmist.sampling.deltas import START_SLACK_S
from dunmist.series.process import Application, Process, ProcessFigures, Thread
from dunmist.series.samples import NS_PER_S, CaptureContext, ProcessCollector, Samples
from dunmist.series.timeline import Floats, Ints, Level, Rate
from dunmist.series.unsampled_usage import ChildTime, UnsampledUsage, late_use
from dunmist.series.wait_kinds import WAIT_KINDS

NOT_THERE = "·"


class ProcessSeries(NamedTuple):
    """``unclaimed_cores`` is what ended without an ancestor that was seen.

    ``processor_cpu_s`` has the CPU time of each application by the logical CPU on
    which it was seen at the end of each interval, shape (processor numbers, applications).
    """

    applications: list[Application]
    by_identity: dict[int, Process]
    unclaimed_cores: Rate
    processor_cpu_s: Floats


class Shared(NamedTuple):
    """Figures of applications from other sources, shape (intervals, applications)."""

    sent_bytes_per_s: Floats
    received_bytes_per_s: Floats
    graphics: Floats


class Asked(NamedTuple):
    """CPU time of processes for answers to the sampler, which asked after ``at_s``."""

    at_s: float
    cpu_s: Mapping[int, float]


def process_series(
    collected: ProcessCollector, basis: CaptureContext, shared: Shared, asked: Sequence[Asked] = ()
) -> ProcessSeries:
    """Return all processes and applications of a capture."""
    inside = {
        identity
        for identity in basis.grouping.application_of
        if _began_inside(identity, collected, basis)
    }
    samples = Samples(collected, inside, basis)
    maker = _Maker(collected, samples, basis)
    applications = maker.applications(shared, asked)
    by_identity = maker.processes(applications, inside)
    return ProcessSeries(
        applications,
        by_identity,
        Rate(basis.impossible.line, maker.late.unclaimed_cores),
        maker.by_processor(),
    )


def _began_inside(identity: int, collected: ProcessCollector, basis: CaptureContext) -> bool:
    """Whether a process began during the capture, by its own start time if that is known."""
    # a process seen at the first tick began before it
    if collected.first_row.get(identity, 0) == 0:
        return False
    # without an uptime the first sight has to do
    if basis.began_s is None:
        return True
    start_s = basis.grouping.facts(identity).start_clk / basis.about.clock_ticks_per_s
    return start_s >= basis.began_s - START_SLACK_S


class _Maker:
    """Makes applications, then the processes in them, from the same samples."""

    def __init__(
        self, collected: ProcessCollector, samples: Samples, basis: CaptureContext
    ) -> None:
        self._collected, self._samples, self._basis = collected, samples, basis
        self._grouping: Grouping = basis.grouping
        self._line = samples.line
        self._count = len(self._grouping.groups)
        of = np.zeros(max(self._grouping.application_of, default=0) + 1, dtype=np.int64)
        of[list(self._grouping.application_of)] = list(self._grouping.application_of.values())
        self._of: Ints = of
        self._threads = self._watched_threads()
        self.late: UnsampledUsage = late_use(
            self._children(), collected, self._grouping, basis.about.clock_ticks_per_s, self._line
        )

    def applications(self, shared: Shared, asked: Sequence[Asked]) -> list[Application]:
        """Return the applications, without their members."""
        line, table, grown = self._line, self._samples.table, self._samples.grown
        own = self._spread(grown["own_s"])
        # raised nice values give way; the policies batch and idle are rare, and keep nice 0
        low = self._spread(np.where(table["nice"] > 0, grown["own_s"], 0.0)).sum(axis=0)
        low_priority = low / np.maximum(own.sum(axis=0), 1e-12)
        own = self._with_late(own, self.late.own_cores)
        self._hand_over(own, asked)
        short = self._with_late(np.zeros_like(own), self.late.short_lived_cores)
        whole = self._possible(own + short)
        page_bytes = self._basis.about.page_bytes
        rates = {
            "own_cores": np.minimum(own, whole),
            "short_lived_cores": np.minimum(short, whole),
            "cores": whole,
            "waiting": self._waiting(),
            "io_waiting": self._spread(grown["io_delay_s"]),
            "read_bytes_per_s": self._with_late(
                self._spread(grown["read_bytes"]), self.late.read_bytes_per_s
            ),
            "write_bytes_per_s": self._with_late(
                self._spread(grown["write_bytes"]), self.late.write_bytes_per_s
            ),
            "major_faults_per_s": self._spread(grown["major_faults"]),
            **shared._asdict(),
        }
        levels = {
            "rss_bytes": self._held(table["rss_pages"]) * page_bytes,
            "private_bytes": self._held(self._samples.private_pages) * page_bytes,
        }
        blocked = {
            kind: self._held((table["wait"] == code).astype(float))
            for code, kind in enumerate(WAIT_KINDS)
            if (table["wait"] == code).any()
        }
        namesakes = Counter(group.name for group in self._grouping.groups)
        return [
            Application(
                number=number,
                name=group.name,
                unit=group.unit,
                kernel=group.kernel,
                observer=group.samples(Rate(line, whole[:, number]).mean()),
                blocked={kind: Level(line, held[:, number]) for kind, held in blocked.items()},
                low_priority=float(low_priority[number]),
                short_lived_programs=self._short_lived(number),
                has_namesakes=namesakes[group.name] > 1,
                starts_generations=number in self._basis.started,
                rss_bytes=Level(line, levels["rss_bytes"][:, number]),
                private_bytes=Level(line, levels["private_bytes"][:, number]),
                rates={name: Rate(line, values[:, number]) for name, values in rates.items()},
            )
            for number, group in enumerate(self._grouping.groups)
        ]

    def _short_lived(self, number: int) -> Counter[str]:
        """Return the programs that an application started again and again, seen or not."""
        unseen = Counter(self.late.programs.get(number, {}))
        return unseen + self._basis.started.get(number, Counter())

    def processes(self, applications: list[Application], inside: set[int]) -> dict[int, Process]:
        """Return the processes by identity, tied to their applications and families."""
        collected, grouping = self._collected, self._grouping
        cpu_s = np.bincount(
            self._samples.identity[self._samples.row > 0],
            np.nan_to_num(self._samples.grown["own_s"][self._samples.row > 0]),
            minlength=len(self._of),
        )
        by_identity: dict[int, Process] = {}
        for group, application in zip(grouping.groups, applications, strict=True):
            for identity in group.members:
                details = collected.details.get(identity, (None, None))
                ended = collected.ended_row.get(identity)
                process = Process(
                    identity=identity,
                    facts=grouping.facts(identity),
                    program=grouping.program(identity),
                    application=application,
                    parent=None,
                    first_row=collected.first_row.get(identity, 0),
                    ended_row=ended,
                    started_inside=identity in inside,
                    last=collected.last.get(identity),
                    figures=self._figures(identity, ended),
                    first_detail=details[0],
                    detail=details[1],
                    cpu_s=float(cpu_s[identity]),
                    threads=self._threads.get(identity, []),
                )
                by_identity[identity] = process
                application.members.append(process)
        for identity, process in by_identity.items():
            parent = grouping.parent(identity)
            if parent is not None:
                process.parent = by_identity[parent]
                by_identity[parent].children.append(process)
        return dict(sorted(by_identity.items()))

    def by_processor(self) -> Floats:
        """Return CPU time by the processor on which it was seen, and application."""
        samples = self._samples
        processor = samples.table["processor"]
        seen = (processor >= 0) & (samples.row > 0)
        total = np.zeros((int(processor[seen].max(initial=-1)) + 1, self._count))
        cells = (processor[seen], self._of[samples.identity[seen]])
        np.add.at(total, cells, np.nan_to_num(samples.grown["own_s"][seen]))
        return total

    def _spread(self, amounts: Floats) -> Floats:
        return self._samples.spread(amounts, self._of, self._count)

    def _held(self, level: Floats) -> Floats:
        return self._samples.held(level, self._of, self._count, self._collected.ended_row)

    def _with_late(self, amounts: Floats, late: dict[int, Floats]) -> Floats:
        for number, more in late.items():
            amounts[:, number] += more
        return amounts

    def _hand_over(self, cores: Floats, asked: Sequence[Asked]) -> None:
        """Count work that others did on request for the process that asked."""
        observer = next(
            (n for n, group in enumerate(self._grouping.groups) if group.observer), None
        )
        if observer is None:
            return
        for at_s, cpu_s in asked:
            interval = int(np.searchsorted(self._line.at_s, at_s, side="right")) - 1
            if not 0 <= interval < self._line.intervals:
                continue  # after the last tick, or before the window that is judged
            for identity in cpu_s.keys() & self._grouping.application_of.keys():
                number = self._of[identity]
                theirs = max(0.0, cpu_s[identity]) / self._line.interval_s[interval]
                given = min(float(np.nan_to_num(cores[interval, number])), theirs)
                cores[interval, [number, observer]] += (-given, given)

    def _possible(self, cores: Floats) -> Floats:
        """Return the use of applications, none above what the computer has."""
        online = self._basis.online.values[:, None]
        room = online * self._basis.impossible.most_share[:, None]
        # with children that were not seen it may be too much where its own use alone is not
        beyond = cores > room
        self._basis.impossible.dropped["CPU time of short-lived processes"] += int(beyond.sum())
        return np.where(beyond, 0.0, np.minimum(cores, online))

    def _waiting(self) -> Floats:
        """Return run-queue delay a second, that of all threads where they were watched."""
        waiting = self._spread(self._samples.grown["delay_s"])
        for identity in self._threads:
            more = self._more_waiting(identity)
            waiting[:, self._of[identity]] += more
        return waiting

    def _first_thread_waiting(self, identity: int) -> Floats:
        ended = self._collected.ended_row.get(identity)
        first_thread_waiting = self._samples.rate_of(identity, "delay_s", ended).values
        return first_thread_waiting

    def _more_waiting(self, identity: int) -> Floats:
        """Return the waiting time of all watched threads beyond that of the first one."""
        threads = np.nansum([thread.waiting.values for thread in self._threads[identity]], axis=0)
        first = np.nan_to_num(self._first_thread_waiting(identity))
        more: Floats = np.maximum(threads - first, 0.0)
        return more

    def _watched_threads(self) -> dict[int, list[Thread]]:
        watched_threads: dict[int, list[Thread]] = {}
        names = self._collected.thread_names
        for (identity, tid), track in self._collected.threads.over(self._line).items():
            cores = self._basis.impossible.share(
                "CPU time of threads", track.rate("run_ns") / NS_PER_S
            )
            waiting = track.rate("delay_ns") / NS_PER_S
            thread = Thread(tid, names.get((identity, tid)), cores, waiting)
            watched_threads.setdefault(identity, []).append(thread)
        return watched_threads

    def _children(self) -> list[ChildTime]:
        samples = self._samples
        grown = np.nan_to_num(samples.grown["children_s"])
        return [
            ChildTime(
                int(samples.row[index]) - 1, int(samples.identity[index]), float(grown[index])
            )
            for index in np.flatnonzero(grown > 0)
        ]

    def _figures(self, identity: int, ended: int | None) -> ProcessFigures:
        return ProcessFigures(
            rate=partial(self._rate, identity, ended),
            level=partial(self._level, identity, ended),
            states=partial(self._states, identity, ended),
        )

    def _rate(self, identity: int, ended: int | None, name: str) -> Rate:
        if name == "waiting":
            first = self._samples.rate_of(identity, "delay_s", ended)
            if identity not in self._threads:
                return first
            return first + Rate(self._line, self._more_waiting(identity))
        column = {
            "cores": "own_s",
            "io_waiting": "io_delay_s",
            "read_bytes_per_s": "read_bytes",
            "write_bytes_per_s": "write_bytes",
            "major_faults_per_s": "major_faults",
        }[name]
        rate = self._samples.rate_of(identity, column, ended)
        if name != "cores":
            return rate
        return Rate(self._line, np.minimum(rate.values, self._basis.online.values))

    def _level(self, identity: int, ended: int | None, name: str) -> Level:
        table, page_bytes = self._samples.table, self._basis.about.page_bytes
        columns: dict[str, Floats] = {
            "rss_bytes": table["rss_pages"],
            "private_bytes": self._samples.private_pages,
            "threads": table["threads"],
        }
        level = self._samples.level_of(identity, columns[name], ended)
        return level if name == "threads" else level * page_bytes

    def _states(self, identity: int, ended: int | None) -> str:
        codes = self._samples.table["state"].astype(float)
        level = self._samples.level_of(identity, codes, ended).values
        return "".join(NOT_THERE if np.isnan(code) else chr(int(code)) for code in level)
