"""Count the system calls of waiting processes (state D), by application."""

from collections import Counter, defaultdict
from collections.abc import Iterator
from typing import NamedTuple

from dunmist.applications import Grouping
from dunmist.computer import WaitingCall
from dunmist.sampling import Tick


class CallUse(NamedTuple):
    """A system call, the file it is about, and in how many samples a task waited in it.

    ``function`` is what it was waited for in the kernel most often, None if that is unknown.
    """

    call: str
    path: str | None
    share: float
    function: str | None


class CallCollector:
    """Counts what ticks say of waiting calls."""

    fields = ("calls",)

    def __init__(self) -> None:
        self._seen: defaultdict[int, list[WaitingCall]] = defaultdict(list)

    def add(self, row: int, tick: Tick) -> None:
        """Take what a tick says."""
        del row
        for call in tick.calls:
            self._seen[call.process].append(call)

    def finish(self, grouping: Grouping) -> dict[int, list[CallUse]]:
        """Return the system calls that each application waited in, most frequent first."""
        of_application: defaultdict[int, list[WaitingCall]] = defaultdict(list)
        for process, seen in self._seen.items():
            number = grouping.application_of.get(process)
            if number is not None:
                of_application[number] += seen
        return {number: list(_uses(seen)) for number, seen in of_application.items()}


def _uses(seen: list[WaitingCall]) -> Iterator[CallUse]:
    functions: defaultdict[tuple[str, str | None], Counter[str | None]] = defaultdict(Counter)
    for call in seen:
        functions[call.call, call.path][call.function] += 1
    for (name, path), counts in sorted(functions.items(), key=lambda item: -item[1].total()):
        function = counts.most_common(1)[0][0]
        yield CallUse(name, path, counts.total() / len(seen), function)
