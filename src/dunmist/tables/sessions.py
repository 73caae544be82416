"""Topic ``sessions``: who is logged in, and whose processes load the computer."""

from collections import defaultdict
from collections.abc import Iterator

from dunmist.advice import Judged
from dunmist.series import Process
from dunmist.tables.declared import Column, Row, Table
from dunmist.tables.shared_columns import CORES_MEAN, PID, PRIVATE_BYTES, USER


def _sessions(judged: Judged) -> Iterator[Row]:
    survey = judged.series.surveyed.last
    for session in survey.sessions if survey else []:
        yield {
            "user": session.user,
            "terminal": session.terminal,
            "from": session.origin,
            "graphical": session.graphical,
            "since_s": session.since_s,
            "idle_s": session.idle_s,
            "active": session.active,
            "pid": session.pid,
        }


SESSIONS = Table(
    "sessions",
    "who is logged in",
    (
        USER,
        Column("terminal", "text", "terminal or screen"),
        Column("from", "text", "computer from which they came"),
        Column("graphical", "flag", "whether it is at a screen"),
        Column("since_s", "moment", "when they logged in"),
        Column("idle_s", "s", "for how long nothing was typed"),
        Column("active", "flag", "whether it is the one in front"),
        PID,
    ),
    _sessions,
)


def _owners(judged: Judged) -> Iterator[Row]:
    series = judged.series
    by_user: dict[str, list[Process]] = defaultdict(list)
    for process in series.living.values():
        if not process.facts.kernel:
            by_user[process.facts.user or "unknown"].append(process)
    for user, processes in by_user.items():
        yield {
            "user": user,
            "processes": len(processes),
            "cores_mean": sum(process.cpu_s for process in processes) / series.line.measured_s,
            "private_bytes": sum(process.private_bytes.last() or 0.0 for process in processes),
        }


OWNERS = Table(
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
