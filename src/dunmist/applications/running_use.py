"""CPU time of applications so far, for the progress of a running capture."""

from collections import defaultdict
from heapq import nlargest

from dunmist.applications.generations import RunningLives, find_starters
from dunmist.applications.grouping import Grouping, last_starter
from dunmist.sampling import Event, Observer, ProcessLine, Record
from dunmist.sampling.deltas import Interval


class RunningUse:
    """Follows records as they are taken and knows which applications were busiest so far."""

    def __init__(self, observer: Observer | None) -> None:
        self._grouping = Grouping(observer)
        self._lives = RunningLives()
        self._cpu_s: dict[int, float] = defaultdict(float)  # by identity
        self._elapsed_s = 0.0

    def add(self, record: Record, interval: Interval | None) -> None:
        """Take one record into account, and the interval that ended with a tick."""
        self._lives.add(record)
        if isinstance(record, ProcessLine):
            self._grouping.add(record.id, record.facts)
        elif isinstance(record, Event) and record.facts:
            self._grouping.replace(record.processes[0], record.facts)
        elif interval is not None:
            self._elapsed_s += interval.span_s
            for identity, use in interval.processes.items():
                self._cpu_s[identity] += (use.cores or 0.0) * interval.span_s

    def busiest(self, limit: int) -> list[tuple[str, float]]:
        """Return names and mean cores used of the busiest applications, the sampler left out.

        Programs that are started again and again count for their starter, as in the triage.
        """
        if not self._elapsed_s:
            return []
        starter_of = find_starters(self._grouping, self._lives, self._lives.rows)
        used: dict[int, float] = defaultdict(float)
        for identity, cpu_s in self._cpu_s.items():
            number = self._grouping.application_of[identity]
            used[last_starter(number, starter_of)] += cpu_s
        groups = self._grouping.groups
        return [
            (groups[number].name, cpu_s / self._elapsed_s)
            for number, cpu_s in nlargest(limit + 1, used.items(), key=lambda pair: pair[1])
            if cpu_s > 0 and not groups[number].observer
        ][:limit]
