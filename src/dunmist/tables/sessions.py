"""Topic ``sessions``: the users that are logged in, and the load of their processes."""

from collections import defaultdict
from collections.abc import Iterator
from typing import NamedTuple

from dunmist.advice import Judged
from dunmist.computer import Session
from dunmist.series import Process
from dunmist.tables.declared import Column, Table
from dunmist.tables.shared_columns import CORES_MEAN, PID, PRIVATE_BYTES, USER


def _sessions(judged: Judged) -> list[Session]:
    survey = judged.series.surveyed.last
    return survey.sessions if survey else []


SESSIONS: Table[Session] = Table(
    "sessions",
    "users that are logged in",
    (
        USER,
        Column("terminal", "text", "terminal or screen"),
        Column("from", "text", "computer from which they came", lambda row: row.origin),
        Column("graphical", "flag", "whether it is at a screen"),
        Column("since_s", "moment", "when they logged in"),
        Column("idle_s", "s", "for how long nothing was typed"),
        Column("active", "flag", "whether it is the one in front"),
        PID,
    ),
    _sessions,
)


class Owner(NamedTuple):
    """One user, and the usage of all their processes."""

    user: str
    processes: int
    cores_mean: float
    private_bytes: float


def _owners(judged: Judged) -> Iterator[Owner]:
    series = judged.series
    by_user: dict[str, list[Process]] = defaultdict(list)
    for process in series.living.values():
        if not process.facts.kernel:
            by_user[process.facts.user or "unknown"].append(process)
    for user, processes in by_user.items():
        yield Owner(
            user,
            len(processes),
            sum(process.cpu_s for process in processes) / series.line.measured_s,
            sum(process.private_bytes.last() or 0.0 for process in processes),
        )


OWNERS: Table[Owner] = Table(
    "owners of processes",
    "the greatest use first",
    (
        USER,
        Column("processes", "number", "how many processes they have"),
        CORES_MEAN,
        PRIVATE_BYTES,
    ),
    _owners,
    order=("cores_mean",),
)
