"""Threads of the busiest processes, and file locks with their holders and waiters."""

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from dunmist.advice import Judged
from dunmist.computer import LockWait
from dunmist.series import Process, Thread
from dunmist.tables.declared import Column, Table
from dunmist.tables.shared_columns import CORES_MEAN, PID, PROGRAM


class OneThread(NamedTuple):
    """One watched thread of a process."""

    process: Process
    thread: Thread


def threads_of(judged: Judged, processes: Iterable[Process] | None = None) -> Iterator[OneThread]:
    """Yield each watched thread, of all processes or of the given ones."""
    for process in judged.series.processes.values() if processes is None else processes:
        for thread in process.threads:
            yield OneThread(process, thread)


THREADS: Table[OneThread] = Table(
    "busy threads",
    "of the few busiest processes, over the time for which they were watched",
    (
        PID.of(lambda row: row.process.pid),
        PROGRAM.of(lambda row: row.process.name),
        Column("tid", "number", "thread number", lambda row: row.thread.tid),
        Column("thread", "text", "what the thread calls itself", lambda row: row.thread.name),
        CORES_MEAN.of(lambda row: row.thread.cores.mean()),
        Column("waiting_tasks", "figure", "share of time in which it waited for a CPU",
            lambda row: row.thread.waiting.mean()),
    ),
    threads_of,
    order=("cores_mean",),
)


def locks_of(judged: Judged, pid: int | None = None) -> list[LockWait]:
    """Return the file locks with waiters, or those that concern one process."""
    survey = judged.series.surveyed.last
    return [
        lock
        for lock in (survey.locks if survey else [])
        if pid is None or pid in (lock.waiter, lock.holder)
    ]


LOCKS: Table[LockWait] = Table(
    "locks",
    "file locks with waiting processes, at the end of the capture",
    (
        Column("waits", "number", "process number of the waiter", lambda row: row.waiter),
        Column("for_what_holds", "number", "process number of the holder", lambda row: row.holder),
    ),
    locks_of,
)
