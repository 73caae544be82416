"""Short-lived processes that are started again and again belong to who starts them.

A build, a loop in a shell or a job server starts programs that are gone in a second. To stop one of
their numbers stops nothing: the nearest ancestor that lives through the capture is the handle. What
it started is kept as counts by name.
"""

from collections import Counter
from typing import Protocol

from dunmist.applications.grouping import Grouping
from dunmist.applications.launchers import SHELLS
from dunmist.sampling import Event, ProcessLine, Record, Tick

# of the capture: what lived longer is a program of its own
LIFE_MAX_SHARE = 0.5
# fewer may be a person who opened some windows
STARTED_MIN = 4
# of these, so many were gone before the end
ENDED_MIN_SHARE = 0.5


class Lives(Protocol):
    """From which row to which each process was there; one that was there before has row 0."""

    first_row: dict[int, int]
    ended_row: dict[int, int]


class RunningLives:
    """The same of a run that goes on, with the number of its ticks so far."""

    def __init__(self) -> None:
        self.first_row: dict[int, int] = {}
        self.ended_row: dict[int, int] = {}
        self.rows = 0

    def add(self, record: Record) -> None:
        """Take one record into account."""
        if isinstance(record, ProcessLine):
            self.first_row[record.id] = self.rows
        elif isinstance(record, Event):
            if record.what == "exit":
                self.ended_row.update(dict.fromkeys(record.processes, self.rows))
        elif isinstance(record, Tick):
            self.rows += 1


def adopt_generations(grouping: Grouping, lives: Lives, rows: int) -> dict[int, Counter[str]]:
    """Hand the members of churning groups to the application of their nearest lasting ancestor.

    Return what each application started, by its new number: counts by name.
    """
    starter_of = find_starters(grouping, lives, rows)
    names = {
        number: Counter(grouping.program(identity).name for identity in group.members)
        for number, group in enumerate(grouping.groups)
        if number in starter_of
    }
    renumbered = grouping.hand_over(starter_of)
    started: dict[int, Counter[str]] = {}
    for number, starter in starter_of.items():
        started.setdefault(renumbered[starter], Counter()).update(names[number])
    return started


def find_starters(
    grouping: Grouping, lives: Lives, rows: int, since_row: int = 0
) -> dict[int, int]:
    """Return the starter of each churning group: numbers of groups, by that of the churning one.

    What counts is how it was from ``since_row`` to the last of ``rows``.
    """

    def lived(identity: int) -> int:
        first_row = max(since_row, lives.first_row.get(identity, 0))
        return max(since_row, lives.ended_row.get(identity, rows)) - first_row

    def lasts(identity: int) -> bool:
        is_old = lives.first_row.get(identity, 0) <= since_row
        return is_old and identity not in lives.ended_row

    def churns(members: list[int]) -> bool:
        ended = sum(identity in lives.ended_row for identity in members)
        return (
            len(members) >= STARTED_MIN
            and ended >= ENDED_MIN_SHARE * len(members)
            and all(lived(identity) <= LIFE_MAX_SHARE * (rows - since_row) for identity in members)
        )

    def ancestor(identity: int) -> int | None:
        seen = {identity}
        parent = grouping.parent(identity)
        while parent is not None and parent not in seen and not lasts(parent):
            seen.add(parent)
            parent = grouping.parent(parent)
        return None if parent is None or parent in seen else parent

    adopted: dict[int, int] = {}
    for number, group in enumerate(grouping.groups):
        if group.kernel or group.observer or group.unit is not None or not churns(group.members):
            continue
        starters = Counter(
            grouping.application_of[starter]
            for identity in group.members
            if (starter := ancestor(identity)) is not None and _may_adopt(grouping, starter)
        )
        for starter, count in starters.most_common(1):
            # a part of them may have lost their parents before they were seen
            if 2 * count > len(group.members):
                adopted[number] = starter
    return adopted


def _may_adopt(grouping: Grouping, identity: int) -> bool:
    """Whether work may be laid to a process: a session or a service manager only starts it."""
    group = grouping.groups[grouping.application_of[identity]]
    program = grouping.program(identity)
    is_manager = program.launches and program.name not in SHELLS
    return not (group.kernel or group.observer or is_manager)
