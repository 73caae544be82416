"""Parse the files of one process.

Sources: proc_pid_stat(5), proc_pid_status(5), proc_pid_statm(5), proc_pid_cmdline(5),
proc_pid_cgroup(5), proc_pid_io(5); ``Documentation/scheduler/sched-stats.rst`` for schedstat. A
command name in ``stat`` may hold spaces and parentheses, so the line is cut at the last
parenthesis. The schedstat of a process is that of its first thread only. The other threads have
their own.
"""

import re
from typing import NamedTuple

import msgspec

from dunmist.computer.parsing import (
    COUNTER_MAX,
    NICE_LEAST,
    NICE_MOST,
    PROCESS_NUMBER_MAX,
    PROCESSORS_MOST,
    Counter,
    Identity,
    Nice,
    ParseError,
    ProcessNumber,
    ProcessorNumber,
    count_of,
    counter_of,
    lines_of,
    text_of,
)

# suffix of the name of a deleted file in proc_pid_exe(5)
DELETED = " (deleted)"
# a program may make its command line as long as it likes; nobody reads more of it
COMMAND_LINE_BYTES = 1 << 15
# kernel tasks have no executable and no command line; this flag tells them from hidden ones
PF_KTHREAD = 0x00200000  # include/linux/sched.h
# loginuid of processes that no login started: -1 as an unsigned number
NOBODY_LOGGED_IN = 2**32 - 1
_IO = re.compile(rb"^(\w{1,40}): (\d{1,20})$", re.M)


class ProcessStat(NamedTuple):
    """The fields of proc_pid_stat(5) that are used, in its units."""

    pid: int
    name: str  # field 2, at most 15 bytes; may hold spaces and parentheses
    state: str  # field 3
    ppid: int
    session: int
    tty: int  # field 7, a device number
    flags: int  # field 9, PF_* of include/linux/sched.h
    minor_faults: int  # field 10
    major_faults: int  # field 12: pages fetched from a disk
    user_clk: int  # field 14, in clock ticks
    system_clk: int
    children_user_clk: int  # field 16: waited-for children and theirs
    children_system_clk: int
    nice: int  # field 19
    threads: int
    start_clk: int  # field 22, since the computer started
    rss_pages: int  # field 24; off by up to some 60 pages for each CPU
    processor: int  # field 39: where it ran last
    rt_priority: int  # field 40
    policy: int  # field 41 (sched(7))
    io_delay_clk: int  # field 42, zero where delay accounting is off


class ProcessSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """One process at one tick, written when its ``stat`` line changed."""

    process: Identity  # the number that the capture gave to PID and start time
    state: str
    user_clk: Counter  # clock ticks since the process started
    system_clk: Counter
    children_user_clk: Counter  # waited-for children and theirs
    children_system_clk: Counter
    minor_faults: Counter
    major_faults: Counter
    io_delay_clk: Counter
    nice: Nice
    threads: ProcessNumber
    processor: ProcessorNumber
    rss_pages: Counter
    shared_pages: Counter | None  # field 3 of statm: file-backed and shared memory
    run_ns: Counter | None  # first thread only; None without schedstat
    delay_ns: Counter | None  # time runnable and not running
    read_bytes: Counter | None = None  # fetched from storage; None if it may not be read
    write_bytes: Counter | None = None  # caused to be sent to storage
    waits_in: str | None = None  # kernel function, for a process in state D
    after_ms: Counter = 0  # how long after the start of its tick it was read


class ThreadSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """One thread of a busy process since it started."""

    process: Identity
    tid: ProcessNumber
    run_ns: Counter
    delay_ns: Counter
    name: str | None = None  # given when reading begins or begins again
    after_ms: Counter = 0


class ProcessFacts(msgspec.Struct, frozen=True, omit_defaults=True):
    """Constant facts of a process; None is 'could not be read'."""

    pid: ProcessNumber
    start_clk: Counter
    ppid: ProcessNumber
    session: int
    name: str
    kernel: bool = False
    uid: Counter | None = None
    user: str | None = None
    gid: Counter | None = None  # effective group
    group: str | None = None
    command_line: list[str] = []  # as it is now; a program may overwrite it
    executable: str | None = None
    input: str | None = None  # file that is its standard input, where it names no program otherwise
    cgroup: str | None = None
    cpu_cgroup: str | None = None  # the group that limits its CPU time, where it is another one
    login_uid: Counter | None = None  # the user who logged in, whatever user it runs as now
    tty: int = 0  # device number of its terminal, 0 without one
    policy: int = 0  # sched(7)
    rt_priority: int = 0


def parse_process_stat(data: bytes) -> ProcessStat:
    """Return the record of ``/proc/PID/stat``; raises ParseError."""
    # a name may hold anything, parentheses and line ends too: only the last one closes it
    head, closed, tail = data.rpartition(b")")
    pid, opened, name = head.partition(b" (")
    fields = tail.split()
    if not closed or not opened or len(fields) < 22:
        raise ParseError("/proc/PID/stat", "expected 'number (name) state …'", data)
    try:
        number = [int(field) for field in fields[1:40]]
    except ValueError as error:
        raise ParseError("/proc/PID/stat", "expected numbers after the name", tail) from error
    # priority, nice and the terminal group may be negative, counters may not
    counters = (*number[6:14], number[16], number[18], number[20])
    if min(counters) < 0 or max(counters) > COUNTER_MAX:
        raise ParseError("/proc/PID/stat", "expected counters", tail)
    nice, last_seen_on = number[15], number[35] if len(number) > 35 else -1
    if not pid.isdigit() or max(int(pid), number[0], number[16]) > PROCESS_NUMBER_MAX:
        raise ParseError("/proc/PID/stat", "expected numbers of processes", data)
    if not (number[0] >= 0 and NICE_LEAST <= nice <= NICE_MOST and last_seen_on <= PROCESSORS_MOST):
        raise ParseError("/proc/PID/stat", "expected what the kernel can give", tail)
    return ProcessStat(
        pid=int(pid),
        name=text_of(name),
        state=text_of(fields[0][:1]),
        ppid=number[0],
        session=number[2],
        tty=number[3],
        flags=number[5],
        minor_faults=number[6],
        major_faults=number[8],
        user_clk=number[10],
        system_clk=number[11],
        children_user_clk=number[12],
        children_system_clk=number[13],
        nice=nice,
        threads=number[16],
        start_clk=number[18],
        rss_pages=number[20],
        # these four came with Linux 2.2 to 2.6.18; a copied tree may be older than they are
        processor=max(-1, last_seen_on),
        rt_priority=number[36] if len(number) > 36 else 0,
        policy=number[37] if len(number) > 37 else 0,
        io_delay_clk=number[38] if len(number) > 38 else 0,
    )


class Owner(NamedTuple):
    """Effective user and group of a process, by number."""

    uid: int
    gid: int | None


def parse_owner(data: bytes) -> Owner:
    """Return the owner in ``/proc/PID/status``; raises ParseError."""
    # four users: real, effective, saved, file system; the effective one may do things
    user, group = (
        re.search(rb"^%sid:\t\d+\t(\d{1,10})\t" % letter, data, re.M) for letter in (b"U", b"G")
    )
    if not user:
        raise ParseError("/proc/PID/status", "expected a 'Uid:' line", data)
    return Owner(int(user[1]), int(group[1]) if group else None)


class ProcessMemory(NamedTuple):
    """Pages of ``/proc/PID/statm``: resident in all, and those of files and shared memory."""

    resident: int
    shared: int


def parse_statm(data: bytes) -> ProcessMemory:
    """Return the record of ``/proc/PID/statm``; raises ParseError."""
    fields = data.split()
    if len(fields) < 3:
        raise ParseError("/proc/PID/statm", "expected seven numbers", data)
    return ProcessMemory(
        counter_of(fields[1], "/proc/PID/statm", "resident"),
        counter_of(fields[2], "/proc/PID/statm", "shared"),
    )


def parse_schedstat(data: bytes) -> tuple[int, int]:
    """Return nanoseconds on a CPU and waiting for one; raises ParseError."""
    fields = data.split()
    if len(fields) < 2:
        raise ParseError("/proc/PID/schedstat", "expected three numbers", data)
    return (
        counter_of(fields[0], "/proc/PID/schedstat", "time on processor"),
        counter_of(fields[1], "/proc/PID/schedstat", "run-queue delay"),
    )


def parse_cmdline(data: bytes) -> list[str]:
    """Return the arguments; a program may have overwritten them with one string."""
    return [text_of(part) for part in data.rstrip(b"\0").split(b"\0")] if data else []


class ProcessGroups(NamedTuple):
    """The control group that the service manager uses, and the one that limits CPU time."""

    unit: str | None
    cpu: str | None


def parse_cgroup(data: bytes) -> ProcessGroups:
    """Return the groups of ``/proc/PID/cgroup``; None when there is no such line.

    Version 2 has one line ``0::PATH``; together with version 1 that one may be empty, and the named
    hierarchy ``systemd`` says where the process belongs (cgroups(7)).
    """
    paths: dict[bytes, bytes] = {}
    for line in lines_of(data):
        # a path may hold colons
        parts = line.split(b":", 2)
        if len(parts) == 3:
            for controller in parts[1].split(b","):
                paths[controller] = parts[2]
    if not paths:
        return ProcessGroups(None, None)
    unified = paths.get(b"", b"/")
    # in hybrid mode the unified hierarchy is mounted, but nobody is put into it
    unit = unified if unified != b"/" else paths.get(b"name=systemd") or b"/"
    return ProcessGroups(text_of(unit), text_of(paths.get(b"cpu", unified)))


def parse_io(data: bytes) -> tuple[int, int]:
    """Return bytes fetched from storage and caused to be written there; raises ParseError.

    What was written to a file that was cut off again before it reached the disk is taken out.
    """
    words = dict(_IO.findall(data))
    try:
        read = count_of(words[b"read_bytes"], "/proc/PID/io")
        written = count_of(words[b"write_bytes"], "/proc/PID/io")
    except KeyError as error:
        raise ParseError("/proc/PID/io", "expected read_bytes and write_bytes", data) from error
    return read, max(0, written - int(words.get(b"cancelled_write_bytes", b"0")))


def parse_login_uid(data: bytes) -> int | None:
    """Return the user that logged in, None without one; raises ParseError."""
    uid = counter_of(data.strip(), "/proc/PID/loginuid", "user")
    return None if uid == NOBODY_LOGGED_IN else uid
