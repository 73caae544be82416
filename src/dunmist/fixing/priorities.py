"""Set the priorities of CPU and disk, thread by thread.

On Linux both belong to a thread, not to a process (setpriority(2), "C library/kernel differences";
ioprio_set(2)), so every thread of a process is set. The C library has no function for the second
one; its system call numbers are those of the kernel's ``syscall.tbl``.
"""

import ctypes
import os
import platform
from collections.abc import Callable
from contextlib import suppress
from typing import TypeVar

from dunmist.advice import Act, Target
from dunmist.computer import Root
from dunmist.errors import Refused
from dunmist.fixing.journal import JournalLine, Remembered, Result
from dunmist.fixing.pidfd import HeldProcess, hold, reverse_each

T = TypeVar("T")
# about a ninth of the weight of an ordinary task, sched(7)
LOWER_NICE = 10
IDLE = 3 << 13  # class IDLE, Documentation/block/ioprio.rst
# a policy and a priority in one number; priorities end at 99, sched(7)
POLICY_UNIT = 100
# IOPRIO_WHO_PROCESS, ioprio_set(2)
WHO_PROCESS = 1
# machine: numbers of ioprio_set and ioprio_get
CALLS = {
    "x86_64": (251, 252),
    "aarch64": (30, 31),
    "riscv64": (30, 31),
    "i686": (289, 290),
    "armv7l": (314, 315),
    "ppc64le": (273, 274),
    "s390x": (282, 283),
}


def remember_processor(act: Act, targets: list[Target], root: Root) -> Remembered:
    """Return the nice value of every thread."""
    del act
    return _remembered(targets, root, _nice_of)


def remember_policy(act: Act, targets: list[Target], root: Root) -> Remembered:
    """Return scheduling policy and real-time priority of every thread, in one number."""
    del act
    return _remembered(targets, root, _policy_of)


def make_ordinary(act: Act, targets: list[Target], root: Root) -> Result:
    """Take real-time priority from every thread."""
    del act
    return _lower(targets, root, lambda tid: _set_policy(tid, os.SCHED_OTHER * POLICY_UNIT))


def undo_policy(line: JournalLine, root: Root) -> str:
    """Give every thread the policy and priority it had; raises Refused."""
    return _restored(line, root, _set_policy)


def remember_disk(act: Act, targets: list[Target], root: Root) -> Remembered:
    """Return the disk priority of every thread."""
    del act
    return _remembered(targets, root, _disk_class_of)


def lower_processor(act: Act, targets: list[Target], root: Root) -> Result:
    """Let processes give way to others on the CPUs."""
    del act
    return _lower(targets, root, _lower_nice)


def lower_disk(act: Act, targets: list[Target], root: Root) -> Result:
    """Let processes use disks only when nobody else does."""
    del act
    return _lower(targets, root, lambda tid: _set_disk_class(tid, IDLE))


def undo_processor(line: JournalLine, root: Root) -> str:
    """Give every thread the nice value it had; raises Refused."""
    return _restored(line, root, _set_nice)


def undo_disk(line: JournalLine, root: Root) -> str:
    """Give every thread the disk priority it had; raises Refused."""
    return _restored(line, root, _set_disk_class)


def _remembered(targets: list[Target], root: Root, read: Callable[[int], int]) -> Remembered:
    with hold(root, targets) as held:
        return Remembered(
            {process.target.pid: _each_thread(root, process, read) for process in held}
        )


def _lower(targets: list[Target], root: Root, lower: Callable[[int], None]) -> Result:
    with hold(root, targets) as held:
        threads = sum(len(_each_thread(root, process, lower)) for process in held)
        return Result(f"set for {threads} threads of {len(held)} processes", bool(held))


def _restored(line: JournalLine, root: Root, write: Callable[[int, int], None]) -> str:
    def restore(held: HeldProcess) -> None:
        target, before = held.target, line.before.get(held.target.pid, {})
        values = set(before.values())
        if not values:
            raise Refused(
                f"process {target.pid} ({target.name}): what it had before act {line.number} was "
                f"not written down, so nothing was changed; set it by hand"
            )
        # a thread that is newer than the act has what its creator had, where all had the same
        usual = values.pop() if len(values) == 1 else None

        def back(tid: int) -> None:
            value = before.get(tid, usual)
            if value is not None:
                write(tid, value)

        try:
            _each_thread(root, held, back)
        except PermissionError as error:
            raise Refused(
                f"process {target.pid} ({target.name}): only the administrator may raise a "
                f"priority again; run 'dunmist fix undo {line.number}' as administrator"
            ) from error

    return reverse_each(line, root, "as before", restore)


def _each_thread(root: Root, held: HeldProcess, do: Callable[[int], T]) -> dict[int, T]:
    """Do something to every thread of a process; return what it gave by thread number."""
    done: dict[int, T] = {}
    directory = f"proc/{held.target.pid}/task"
    # a thread that starts meanwhile has what its creator had, so it is looked for once more
    for _ in range(2):
        for name in root.names(directory):
            tid = int(name)
            # while the process lives, its number and those of its threads are nobody else's
            if tid in done or held.has_ended():
                continue
            with suppress(ProcessLookupError):
                done[tid] = do(tid)
    return done


def _nice_of(tid: int) -> int:
    return os.getpriority(os.PRIO_PROCESS, tid)


def _lower_nice(tid: int) -> None:
    _set_nice(tid, max(LOWER_NICE, _nice_of(tid)))


def _set_nice(tid: int, nice: int) -> None:
    os.setpriority(os.PRIO_PROCESS, tid, nice)


def _policy_of(tid: int) -> int:
    return os.sched_getscheduler(tid) * POLICY_UNIT + os.sched_getparam(tid).sched_priority


def _set_policy(tid: int, value: int) -> None:
    policy, priority = divmod(value, POLICY_UNIT)
    os.sched_setscheduler(tid, policy, os.sched_param(priority))


def _disk_class_of(tid: int) -> int:
    return _call(1, WHO_PROCESS, tid)


def _set_disk_class(tid: int, value: int) -> None:
    _call(0, WHO_PROCESS, tid, value)


def _call(which: int, *arguments: int) -> int:
    numbers = CALLS.get(platform.machine())
    if numbers is None:
        raise Refused(
            f"the disk priority cannot be set on this kind of processor ({platform.machine()}); "
            f"use ionice(1) by hand"
        )
    # found only where used: few fixes set a disk priority
    library = ctypes.CDLL(None, use_errno=True)
    result = library.syscall(numbers[which], *arguments)
    if result < 0:
        error = ctypes.get_errno()
        raise OSError(error, os.strerror(error))
    return int(result)
