"""What the kernel publishes of one process.

Sources: proc_pid_stat(5), proc_pid_status(5), proc_pid_statm(5), proc_pid_cmdline(5),
proc_pid_cgroup(5); ``Documentation/scheduler/sched-stats.rst`` for schedstat. A command name in
``stat`` may itself hold spaces and parentheses, so the line is cut at the last parenthesis.
schedstat of a process is that of its first thread only; the other threads have their own.
"""

import re
from typing import NamedTuple

import msgspec

from dunmist.computer.parsing import ParseError, counter_of, text_of

COUNTER_MAX = 2**63 - 1
PF_KTHREAD = 0x00200000  # include/linux/sched.h
_NUMBER = re.compile(rb"-?\d{1,20}\Z")


class ProcessStat(NamedTuple):
    """The fields of ``/proc/PID/stat`` that are used, in the units of proc_pid_stat(5)."""

    pid: int
    name: str
    state: str
    ppid: int
    session: int
    flags: int
    minor_faults: int
    major_faults: int
    user_clk: int
    system_clk: int
    children_user_clk: int
    children_system_clk: int
    nice: int
    threads: int
    start_clk: int
    rss_pages: int
    processor: int
    io_delay_clk: int


class ProcessSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """One process at one tick, written only when its ``stat`` line changed.

    ``process`` is the number that the capture gave the identity. Times are in clock ticks since
    the process started; ``children_*`` is that of waited-for children and theirs. ``run_ns`` and
    ``delay_ns`` are the first thread's time on and waiting for a processor, None without schedstat.
    """

    process: int
    state: str
    user_clk: int
    system_clk: int
    children_user_clk: int
    children_system_clk: int
    minor_faults: int
    major_faults: int
    io_delay_clk: int
    nice: int
    threads: int
    processor: int
    rss_pages: int
    shared_pages: int | None
    run_ns: int | None
    delay_ns: int | None


class ThreadSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """One thread of a busy process: nanoseconds on and waiting for a processor since it started."""

    process: int
    tid: int
    run_ns: int
    delay_ns: int


class ProcessFacts(msgspec.Struct, frozen=True, omit_defaults=True):
    """What does not change in a process; None is 'could not be read'."""

    pid: int
    start_clk: int
    ppid: int
    session: int
    name: str
    kernel: bool = False
    uid: int | None = None
    user: str | None = None
    command_line: list[str] = []
    executable: str | None = None
    cgroup: str | None = None


def _signed(field: bytes) -> int:
    if not _NUMBER.match(field):
        raise ParseError("/proc/PID/stat", "expected a number", field)
    return int(field)


def parse_stat(data: bytes) -> ProcessStat:
    """Return the record of ``/proc/PID/stat``; raises ParseError."""
    head, closed, tail = data.rpartition(b")")
    pid, opened, name = head.partition(b" (")
    fields = tail.split()
    if not closed or not opened or len(fields) < 22:
        raise ParseError("/proc/PID/stat", "expected 'number (name) state …'", data)
    try:
        number = [int(field) for field in fields[1:40]]
    except ValueError as error:
        raise ParseError("/proc/PID/stat", "expected numbers after the name", tail) from error
    counters = (*number[6:14], number[16], number[18], number[20])
    if min(counters) < 0 or max(counters) > COUNTER_MAX:
        raise ParseError("/proc/PID/stat", "expected counters", tail)
    return ProcessStat(
        pid=_signed(pid),
        name=text_of(name),
        state=text_of(fields[0][:1]),
        ppid=number[0],
        session=number[2],
        flags=number[5],
        minor_faults=number[6],
        major_faults=number[8],
        user_clk=number[10],
        system_clk=number[11],
        children_user_clk=number[12],
        children_system_clk=number[13],
        nice=number[15],
        threads=number[16],
        start_clk=number[18],
        rss_pages=number[20],
        processor=number[35] if len(number) > 35 else -1,
        io_delay_clk=number[38] if len(number) > 38 else 0,
    )


def parse_uid(data: bytes) -> int:
    """Return the effective user of ``/proc/PID/status``; raises ParseError."""
    match = re.search(rb"^Uid:\t\d+\t(\d{1,10})\t", data, re.M)
    if not match:
        raise ParseError("/proc/PID/status", "expected a 'Uid:' line", data)
    return int(match[1])


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
    """Return nanoseconds on a processor and waiting for one; raises ParseError."""
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


def parse_cgroup(data: bytes) -> str | None:
    """Return the control group that the service manager uses; None when there is no such line.

    Version 2 has one line ``0::PATH``; beside version 1 that one may be empty, and the named
    hierarchy ``systemd`` says where the process belongs (cgroups(7)).
    """
    paths: dict[bytes, bytes] = {}
    for line in data.splitlines():
        parts = line.split(b":", 2)
        if len(parts) == 3:
            paths[parts[1]] = parts[2]
    found = paths.get(b"name=systemd") or b"/"
    unified = paths.get(b"", b"/")
    best = unified if unified != b"/" else found
    return text_of(best) if paths else None
