"""CPU time of applications so far, for the progress of a running capture."""

from collections import Counter

from dunmist.applications.grouping import Grouping
from dunmist.sampling import Event, Observer, ProcessLine, Record, Tick


class RunningUse:
    """Follows records as they are taken and knows which applications were busiest so far."""

    def __init__(self, observer: Observer | None, clock_ticks_per_s: int) -> None:
        self._grouping = Grouping(observer)
        self._clk_per_s = clock_ticks_per_s
        self._first_clk: dict[int, int] = {}
        self._last_clk: dict[int, int] = {}
        self._elapsed_s = 0.0

    def add(self, record: Record) -> None:
        """Take one record into account."""
        if isinstance(record, ProcessLine):
            self._grouping.add(record.id, record.facts)
            if record.tick > 0:
                self._first_clk[record.id] = 0
        elif isinstance(record, Event) and record.facts:
            self._grouping.replace(record.processes[0], record.facts)
        elif isinstance(record, Tick):
            self._elapsed_s = record.at_s
            for sample in record.processes:
                used = sample.user_clk + sample.system_clk
                self._first_clk.setdefault(sample.process, used)
                self._last_clk[sample.process] = used

    def busiest(self, limit: int) -> list[tuple[str, float]]:
        """Return names and mean cores used of the busiest applications, the sampler left out."""
        if not self._elapsed_s:
            return []
        used: Counter[int] = Counter()
        for identity, last in self._last_clk.items():
            used[self._grouping.application_of[identity]] += last - self._first_clk[identity]
        groups = self._grouping.groups
        return [
            (groups[number].name, clk / self._clk_per_s / self._elapsed_s)
            for number, clk in used.most_common(limit + 1)
            if clk > 0 and not groups[number].observer
        ][:limit]
