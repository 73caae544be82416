"""What the processes of each application had called when they were seen waiting in state D."""

from collections import Counter, defaultdict
from typing import NamedTuple

from dunmist.applications import Grouping
from dunmist.sampling import Tick


class CallUse(NamedTuple):
    """A system call, the file it is about, and in how many of the looks it was waited in."""

    call: str
    path: str | None
    share: float


class CallCollector:
    """Counts what ticks say of waiting calls."""

    fields = ("calls",)

    def __init__(self) -> None:
        self._seen: defaultdict[int, Counter[tuple[str, str | None]]] = defaultdict(Counter)

    def add(self, row: int, tick: Tick) -> None:
        """Take what a tick says."""
        del row
        for call in tick.calls:
            self._seen[call.process][call.call, call.path] += 1

    def finish(self, grouping: Grouping) -> dict[int, list[CallUse]]:
        """Return what each application waited in, the most frequent first, by its number."""
        of_application: defaultdict[int, Counter[tuple[str, str | None]]] = defaultdict(Counter)
        for process, seen in self._seen.items():
            number = grouping.application_of.get(process)
            if number is not None:
                of_application[number].update(seen)
        return {
            number: [
                CallUse(call, path, count / seen.total())
                for (call, path), count in seen.most_common()
            ]
            for number, seen in of_application.items()
        }
