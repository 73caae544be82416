"""Priorities of processor and disk, thread by thread.

On Linux both belong to a thread, not to a process (setpriority(2), "C library/kernel differences";
ioprio_set(2)), so every thread of a process is set. The C library has no function for the second
one; its system call numbers are those of the kernel's ``syscall.tbl``.
"""

import ctypes
import os
import platform
from collections.abc import Callable

from dunmist.advice import Act, Target
from dunmist.computer import Root
from dunmist.errors import Refused
from dunmist.fixing.held import Held, hold, reverse_each
from dunmist.fixing.journal import Before, JournalLine, Result

LOWER_NICE = 10
IDLE = 3 << 13  # class IDLE, Documentation/block/ioprio.rst
WHO_PROCESS = 1
# machine: numbers of ioprio_set and ioprio_get
CALLS = {
    "x86_64": (251, 252), "aarch64": (30, 31), "riscv64": (30, 31), "i686": (289, 290),
    "armv7l": (314, 315), "ppc64le": (273, 274), "s390x": (282, 283),
}  # fmt: skip


def lower_processor(act: Act, targets: list[Target], root: Root) -> Result:
    """Let processes give way to others on the processors."""
    del act
    return _lower(targets, root, lower_priority)


def lower_disk(act: Act, targets: list[Target], root: Root) -> Result:
    """Let processes use disks only when nobody else does."""
    del act
    return _lower(targets, root, lower_disk_priority)


def undo_processor(line: JournalLine, root: Root) -> str:
    """Give every thread the nice value it had; raises Refused."""
    return reverse_each(
        line, root, "as before", lambda one: _restored(line, root, one, restore_priority)
    )


def undo_disk(line: JournalLine, root: Root) -> str:
    """Give every thread the disk priority it had; raises Refused."""
    return reverse_each(
        line, root, "as before", lambda one: _restored(line, root, one, restore_disk_priority)
    )


def _lower(targets: list[Target], root: Root, lower: Callable[[Root, Held], Before]) -> Result:
    with hold(root, targets) as held:
        before = {one.target.pid: lower(root, one) for one in held}
        threads = sum(map(len, before.values()))
        text = f"set for {threads} threads of {len(held)} processes"
        return Result(text, bool(held), before)


def _restored(
    line: JournalLine, root: Root, held: Held, restore: Callable[[Root, Held, Before], None]
) -> None:
    try:
        restore(root, held, line.before.get(held.target.pid, {}))
    except PermissionError as error:
        raise Refused(
            f"process {held.target.pid} ({held.target.name}): only the administrator may raise a "
            f"priority again; run 'dunmist fix --undo {line.number}' as administrator"
        ) from error


def lower_priority(root: Root, held: Held) -> Before:
    """Let every thread of a process give way to others; return what each had."""
    return _each_thread(root, held, _nice_of, _lower_nice)


def restore_priority(root: Root, held: Held, before: Before) -> None:
    """Give every thread what it had; raises PermissionError where only the administrator may."""
    _each_thread(root, held, _nice_of, lambda tid: _set_nice(tid, before.get(tid, _least(before))))


def lower_disk_priority(root: Root, held: Held) -> Before:
    """Let every thread of a process use disks only when nobody else does; return what each had."""
    return _each_thread(root, held, _disk_class_of, lambda tid: _set_disk_class(tid, IDLE))


def restore_disk_priority(root: Root, held: Held, before: Before) -> None:
    """Give every thread the disk priority that it had."""
    _each_thread(
        root,
        held,
        _disk_class_of,
        lambda tid: _set_disk_class(tid, before.get(tid, _least(before))),
    )


def _each_thread(
    root: Root, held: Held, read: Callable[[int], int], write: Callable[[int], None]
) -> Before:
    before: Before = {}
    directory = f"proc/{held.target.pid}/task"
    # a thread that starts meanwhile has what its creator had, so it is looked for once more
    for _ in range(2):
        for name in root.names(directory):
            tid = int(name)
            # while the process lives, its number and those of its threads are nobody else's
            if tid in before or held.has_ended():
                continue
            try:
                before[tid] = read(tid)
                write(tid)
            except ProcessLookupError:
                # the thread ended between the reading and the writing
                before.pop(tid, None)
    return before


def _least(before: Before) -> int:
    return min(before.values(), default=0)


def _nice_of(tid: int) -> int:
    return os.getpriority(os.PRIO_PROCESS, tid)


def _lower_nice(tid: int) -> None:
    _set_nice(tid, max(LOWER_NICE, _nice_of(tid)))


def _set_nice(tid: int, nice: int) -> None:
    os.setpriority(os.PRIO_PROCESS, tid, nice)


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
