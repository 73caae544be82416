"""Attribute exited tasks to their processes or ancestors.

Sum the kernel's records of single tasks: a sum for each process that was seen. Tasks of other
processes are summed by program and nearest ancestor that was seen.
"""

from collections.abc import Callable

import msgspec

from dunmist.computer import TaskExit
from dunmist.computer.parsing import Counter, Identity
from dunmist.sampling.process_table import ProcessRound, ProcessTable

# numbers that were given away again could close a circle
ANCESTORS_MOST = 64
US_PER_S = 1e6


class ExitSum(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Tasks that exited between two ticks, added up."""

    process: Identity | None  # identity; None for processes that were never seen
    parent: Identity | None  # nearest ancestor that was seen; None for none
    name: str
    uid: int
    tasks: Counter
    run_ns: Counter  # exact
    counted_us: Counter  # by clock ticks, as the totals of the CPUs are
    delay_ns: Counter
    io_delay_ns: Counter
    major_faults: Counter
    read_bytes: Counter
    write_bytes: Counter


def sum_exits(
    exits: list[TaskExit], table: ProcessTable, process_round: ProcessRound
) -> list[ExitSum]:
    """Return the sums of one tick's exits."""
    if not exits:
        return []
    ended = {pid: number for number, pid in process_round.ended.items()}
    parents = {task.pid: task.ppid for task in exits}
    sums: dict[tuple[int | None, int | None, str, int], list[int]] = {}
    for task in exits:
        process = _seen(task, ended, table)
        parent = None if process is not None else _ancestor(task, parents, ended, table.number_of)
        key = (process, parent, "" if process is not None else task.name, task.uid)
        amounts = (
            1,
            task.run_ns,
            task.counted_us,
            task.delay_ns,
            task.io_delay_ns,
            task.major_faults,
            task.read_bytes,
            task.write_bytes,
        )
        before = sums.get(key)
        sums[key] = [a + b for a, b in zip(before or [0] * 8, amounts, strict=True)]
    return [ExitSum(*key, *amounts) for key, amounts in sums.items()]


def _seen(task_exit: TaskExit, ended: dict[int, int], table: ProcessTable) -> int | None:
    if task_exit.pid in ended:
        return ended[task_exit.pid]
    # it may still be listed: a thread of many, or a process that nobody has waited for yet
    elapsed_s = task_exit.elapsed_us / US_PER_S if task_exit.pid == task_exit.tid else None
    return table.number_of(task_exit.pid, elapsed_s)


def _ancestor(
    task_exit: TaskExit,
    parents: dict[int, int],
    ended: dict[int, int],
    number_of: Callable[[int], int | None],
) -> int | None:
    pid = task_exit.ppid
    for _ in range(ANCESTORS_MOST):
        number = ended.get(pid, number_of(pid))
        if number is not None:
            return number
        if pid not in parents:
            return None
        pid = parents[pid]
    return None
