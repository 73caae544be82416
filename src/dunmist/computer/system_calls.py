"""Read the system call of a waiting process, and the file of that call.

Sources: proc_pid_syscall(5), which who may trace the process may read; for the numbers of calls
``arch/x86/entry/syscalls/syscall_64.tbl`` and ``include/uapi/asm-generic/unistd.h`` of Linux;
proc_pid_stack(5), which the administrator may read. Nothing is traced: the kernel writes down what
a process that sleeps has called.
"""

import os
import re
from functools import cache
from typing import NamedTuple

import msgspec

from dunmist.computer.parsing import Identity, ParseError, lines_of, text_of
from dunmist.computer.root import Root, reason_of

SYSTEM_CALLS = "system calls of waiting processes"
# programs of 32 bits have numbers of their own, and their stack below it
LOW_STACK = 1 << 32
STACKS = "what waiting processes wait for in the kernel"
_FRAME = re.compile(rb"\[<[0-9a-fx]+>\] ([\w.]{1,200})(?:\+0x|\Z)")
# frames that wait, whatever for, and the ways into the kernel (kernel/sched/, block/, mm/filemap.c)
_WAITS_ONLY = re.compile(
    r"(?:__)?(?:schedule|io_schedule|bit_wait|wait_on_bit|out_of_line_wait|wait_for_c|folio_wait|"
    r"wait_on_page|rwsem_down|down_(?:read|write)|mutex_lock|rt_mutex|percpu_|submit_bio|"
    r"wait_on_buffer|do_wait_intr|do_syscall|x64_sys|arm64_sys|entry_|0xffffffff|"
    r"ret_from|el0|invoke_syscall|ksys_|vfs_|do_(?:sys|iter)|SyS_)"
)
FUNCTION_MOST = 100
# a path may be as long as its program likes
PATH_MOST = 400


class CallNumbers(NamedTuple):
    """A system call: its numbers, and whether its first argument is a descriptor."""

    name: str
    x86_64: int
    generic: int | None  # of arm64, riscv and whatever came later
    of_file: bool = True


CALLS = (
    CallNumbers("read", 0, 63),
    CallNumbers("write", 1, 64),
    CallNumbers("open", 2, None, of_file=False),
    CallNumbers("close", 3, 57),
    CallNumbers("stat", 4, None, of_file=False),
    CallNumbers("fstat", 5, 80),
    CallNumbers("lstat", 6, None, of_file=False),
    CallNumbers("poll", 7, None, of_file=False),
    CallNumbers("ioctl", 16, 29),
    CallNumbers("pread", 17, 67),
    CallNumbers("pwrite", 18, 68),
    CallNumbers("readv", 19, 65),
    CallNumbers("writev", 20, 66),
    CallNumbers("nanosleep", 35, 101, of_file=False),
    CallNumbers("sendfile", 40, 71),
    CallNumbers("connect", 42, 203),
    CallNumbers("accept", 43, 202),
    CallNumbers("sendto", 44, 206),
    CallNumbers("recvfrom", 45, 207),
    CallNumbers("clone", 56, 220, of_file=False),
    CallNumbers("vfork", 58, None, of_file=False),
    CallNumbers("wait4", 61, 260, of_file=False),
    CallNumbers("fcntl", 72, 25),
    CallNumbers("flock", 73, 32),
    CallNumbers("fsync", 74, 82),
    CallNumbers("fdatasync", 75, 83),
    CallNumbers("ftruncate", 77, 46),
    CallNumbers("rename", 82, None, of_file=False),
    CallNumbers("mkdir", 83, None, of_file=False),
    CallNumbers("unlink", 87, None, of_file=False),
    CallNumbers("sync", 162, 81, of_file=False),
    CallNumbers("umount", 166, 39, of_file=False),
    CallNumbers("readahead", 187, 213),
    CallNumbers("futex", 202, 98, of_file=False),
    CallNumbers("io_getevents", 208, 4, of_file=False),
    CallNumbers("getdents", 217, 61),
    CallNumbers("openat", 257, 56, of_file=False),
    CallNumbers("newfstatat", 262, 79, of_file=False),
    CallNumbers("unlinkat", 263, 35, of_file=False),
    CallNumbers("splice", 275, 76),
    CallNumbers("sync_file_range", 277, 84),
    CallNumbers("fallocate", 285, 47),
    CallNumbers("syncfs", 306, 267),
    CallNumbers("renameat2", 316, 276, of_file=False),
    CallNumbers("copy_file_range", 326, 285),
    CallNumbers("statx", 332, 291, of_file=False),
    CallNumbers("io_uring_enter", 426, 426, of_file=False),
    CallNumbers("clone3", 435, 435, of_file=False),
)
GENERIC = ("aarch64", "riscv64", "loongarch64")


class WaitingCall(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """System call of a process in state D at a tick; the path is that of its file."""

    process: Identity
    call: str
    path: str | None
    # kernel function that it waits for, below those that only wait; None if it is unknown
    function: str | None = None


def parse_stack(data: bytes) -> str | None:
    """Return the first function of ``/proc/PID/stack`` that says what is waited for, None without.

    Raises ParseError.
    """
    for line in lines_of(data):
        match = _FRAME.match(line)
        if match is None:
            raise ParseError("/proc/PID/stack", "expected functions", line)
        name = text_of(match[1])
        if not _WAITS_ONLY.match(name):
            return name[:FUNCTION_MOST]
    return None


def read_stack(root: Root, pid: str) -> str | None:
    """Return the system call of a waiting process; readable by the administrator only."""
    if root.is_this_computer and os.geteuid():
        root.note(STACKS, "permission", pid)
        return None
    return root.parse(f"proc/{pid}/stack", parse_stack, STACKS, may_be_absent=True)


def parse_system_call(data: bytes) -> tuple[int, int] | None:
    """Return number and first argument of ``/proc/PID/syscall``; None outside a system call.

    Raises ParseError.
    """
    words = data.split()
    if words[:1] == [b"running"] or words[:1] == [b"-1"]:
        return None
    try:
        # number, six arguments, stack, program counter
        number, first, stack = int(words[0]), int(words[1], 16), int(words[7], 16)
    except (ValueError, IndexError):
        raise ParseError("/proc/PID/syscall", "expected a call", data) from None
    return None if stack < LOW_STACK else (number, first)


@cache
def calls_of(architecture: str) -> dict[int, CallNumbers]:
    """Return the calls by their numbers on an architecture; nothing for one that is not known."""
    if architecture == "x86_64":
        return {call.x86_64: call for call in CALLS}
    if architecture in GENERIC:
        return {call.generic: call for call in CALLS if call.generic is not None}
    return {}


def architecture_of(root: Root) -> str:
    """Return the name of the architecture; for a copied tree from what its CPUs publish."""
    if root.is_this_computer:
        return os.uname().machine
    about = root.parse("proc/cpuinfo", bytes, SYSTEM_CALLS, may_be_absent=True) or b""
    return "x86_64" if b"vendor_id" in about else "aarch64" if b"CPU architecture" in about else ""


def read_system_call(root: Root, pid: str, architecture: str) -> tuple[str, str | None] | None:
    """Return the call that a process waits in and the path of its file, None if nothing tells.

    What may not be read is a blind spot.
    """
    try:
        known = root.parsed(root.read(f"proc/{pid}/syscall"), parse_system_call, SYSTEM_CALLS, pid)
    except OSError as error:
        if reason_of(error) != "absent":
            root.note(SYSTEM_CALLS, reason_of(error), pid)
        return None
    call = calls_of(architecture).get(known[0]) if known else None
    if known is None or call is None:
        return None
    try:
        path = root.link(f"proc/{pid}/fd/{known[1]}") if call.of_file else None
    except PermissionError:
        path = None
    return call.name, path[:PATH_MOST] if path else None
