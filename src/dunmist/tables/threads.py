"""Threads of the busiest processes, and file locks: who waits for whom."""

from collections.abc import Iterable, Iterator

from dunmist.advice import Judged
from dunmist.series import Process
from dunmist.tables.declared import Column, Row, Table
from dunmist.tables.shared_columns import CORES_MEAN, PID, PROGRAM


def thread_rows(judged: Judged, processes: Iterable[Process] | None = None) -> Iterator[Row]:
    """Yield a row for each watched thread, of all processes or of the given ones."""
    for process in judged.series.processes.values() if processes is None else processes:
        for thread in process.threads:
            yield {
                "pid": process.pid,
                "program": process.name,
                "tid": thread.tid,
                "thread": thread.name,
                "cores_mean": thread.cores.mean(),
                "waiting_tasks": thread.waiting.mean(),
            }


THREADS = Table(
    "busy threads",
    "of the few busiest processes, over the time for which they were watched",
    (
        PID,
        PROGRAM,
        Column("tid", "number", "thread number"),
        Column("thread", "text", "what the thread calls itself"),
        CORES_MEAN,
        Column("waiting_tasks", "figure", "share of time in which it waited for a CPU"),
    ),
    thread_rows,
    order=("cores_mean",),
)


def lock_rows(judged: Judged, pid: int | None = None) -> Iterator[Row]:
    """Yield the file locks that somebody waits for, or those that concern one process."""
    survey = judged.series.surveyed.last
    for lock in survey.locks if survey else []:
        if pid is None or pid in (lock.waiter, lock.holder):
            yield {"waits": lock.waiter, "for_what_holds": lock.holder}


LOCKS = Table(
    "locks",
    "file locks that somebody waits for, at the end of the capture",
    (
        Column("waits", "number", "process number of who waits"),
        Column("for_what_holds", "number", "process number of who has it"),
    ),
    lock_rows,
)
