"""Receive the accounting of exited tasks: the kernel's taskstats over generic netlink.

Sources: ``Documentation/accounting/taskstats.rst`` and ``taskstats-struct.rst``,
include/uapi/linux/taskstats.h. Registering for exits needs the administrator (CAP_NET_ADMIN). Only
version 12 of the record (Linux 5.18) and newer says to which process a task belongs. An older one
is not used, because a thread that ends would be taken for a process.
"""

import os
import struct
from collections.abc import Iterator
from typing import NamedTuple

from dunmist.computer.netlink import (
    GENERIC_HEADER,
    NETLINK_GENERIC,
    NLM_F_ACK,
    Message,
    NetlinkSocket,
    encode_attribute,
    find_family,
    parse_attributes,
)
from dunmist.computer.parsing import ParseError, text_of
from dunmist.computer.root import Root, reason_of

# include/uapi/linux/taskstats.h
TASKSTATS_CMD_GET, TASKSTATS_CMD_ATTR_REGISTER_CPUMASK = 1, 3
TASKSTATS_TYPE_STATS, TASKSTATS_TYPE_AGGR_PID = 3, 4
# the first version that says to which process a task belongs, Linux 5.18
VERSION_LEAST = 12
# a record up to the last field that is read
RECORD_LEAST_BYTES = 372
# so that a storm of exits between two ticks overflows it seldom
RECEIVE_BUFFER_BYTES = 8 << 20
SUBJECT = "ends of short-lived processes"

# offset of each field in struct taskstats; they never move, new ones are added at the end
_VERSION = struct.Struct("=H")
_COMM = slice(80, 112)
_DELAYS = struct.Struct("=QQQQQQ")  # from 24: cpu delay, (count), block delay, (count), swap delay
_RUN = struct.Struct("=Q")  # at 72
_IDS = struct.Struct("=IIII")  # from 120: uid, gid, pid, ppid
_TIMES = struct.Struct("=QQQQQ")  # from 144: elapsed, user, system (µs), minor, major faults
_IO = struct.Struct("=QQ")  # from 248: bytes read, written
_TGID = struct.Struct("=I")  # at 368


class TaskExit(NamedTuple):
    """One task that exited, from struct taskstats (Documentation/accounting/taskstats.rst)."""

    pid: int  # ac_tgid: its process
    tid: int  # ac_pid: the task itself
    ppid: int
    uid: int
    name: str
    elapsed_us: int  # ac_etime
    run_ns: int  # cpu_run_real_total: exact
    counted_us: int  # ac_utime and ac_stime: by clock ticks
    delay_ns: int  # cpu_delay_total; zero where delay accounting is off
    io_delay_ns: int  # blkio_delay_total
    major_faults: int
    read_bytes: int
    write_bytes: int


def parse_taskstats(data: memoryview) -> TaskExit:
    """Return one struct taskstats; raises ParseError when it is too short or too old."""
    if len(data) < RECORD_LEAST_BYTES:
        raise ParseError("taskstats", f"record of {len(data)} bytes", bytes(data[:8]))
    (version,) = _VERSION.unpack_from(data)
    if version < VERSION_LEAST:
        raise ParseError("taskstats", f"version {version} says no process", bytes(data[:2]))
    delay, _, block_delay, *_ = _DELAYS.unpack_from(data, 24)
    uid, _, tid, ppid = _IDS.unpack_from(data, 120)
    elapsed_us, user_us, system_us, _, major = _TIMES.unpack_from(data, 144)
    read_bytes, write_bytes = _IO.unpack_from(data, 248)
    return TaskExit(
        pid=_TGID.unpack_from(data, 368)[0],
        tid=tid,
        ppid=ppid,
        uid=uid,
        name=text_of(bytes(data[_COMM]).partition(b"\0")[0]),
        elapsed_us=elapsed_us,
        run_ns=_RUN.unpack_from(data, 72)[0],
        counted_us=user_us + system_us,
        delay_ns=delay,
        io_delay_ns=block_delay,
        major_faults=major,
        read_bytes=read_bytes,
        write_bytes=write_bytes,
    )


def parse_exit(body: memoryview) -> TaskExit | None:
    """Return the task of one taskstats message, None when it is about no single task."""
    for kind, value in parse_attributes(body[GENERIC_HEADER.size :]):
        if kind == TASKSTATS_TYPE_AGGR_PID:
            for inner, record in parse_attributes(value):
                if inner == TASKSTATS_TYPE_STATS:
                    return parse_taskstats(record)
    return None


class TaskExits:
    """Listens for tasks that end, on all CPUs, until it is closed."""

    def __init__(self, link: NetlinkSocket) -> None:
        self._link = link
        self._kept: list[TaskExit] = []
        self.garbled = 0

    @property
    def lost(self) -> int:
        """Number of records that the kernel dropped because they were not read in time."""
        return self._link.lost

    def gather(self) -> None:
        """Read what has arrived so far, so that the kernel's buffer does not overflow."""
        try:
            for message in self._link.pending():
                self._take(message)
        except ParseError:
            self.garbled += 1

    def _take(self, message: Message) -> None:
        try:
            task_exit = parse_exit(message.body)
        except ParseError:
            self.garbled += 1
            return
        if task_exit:
            self._kept.append(task_exit)

    def drain(self) -> list[TaskExit]:
        """Return the tasks that ended since the last call."""
        self.gather()
        kept, self._kept = self._kept, []
        return kept

    def close(self) -> None:
        """Stop listening."""
        self._link.close()


def open_task_exits(
    root: Root, processors: int, receive_buffer_bytes: int = RECEIVE_BUFFER_BYTES
) -> TaskExits | None:
    """Return a listener for all CPUs; None, with a blind spot, where it cannot be had."""
    if not root.is_this_computer:
        root.note(SUBJECT, "absent")
        return None
    try:
        link = NetlinkSocket(NETLINK_GENERIC, receive_buffer_bytes=receive_buffer_bytes)
    except OSError as error:
        root.note(SUBJECT, reason_of(error))
        return None
    try:
        family = find_family(link, "TASKSTATS")
        mask = f"0-{processors - 1}\0".encode()
        _register(link, family, mask)
        # the record of this very program says whether the kernel's version will do
        _check_version(link, family)
    except OSError as error:
        root.note(SUBJECT, reason_of(error))
    except ParseError:
        root.note(SUBJECT, "absent")
    else:
        return TaskExits(link)
    link.close()
    return None


def _register(link: NetlinkSocket, family: int, mask: bytes) -> None:
    header = GENERIC_HEADER.pack(TASKSTATS_CMD_GET, 1, 0)
    wanted = encode_attribute(TASKSTATS_CMD_ATTR_REGISTER_CPUMASK, mask)
    for _ in link.request(family, NLM_F_ACK, header + wanted):
        pass


def _check_version(link: NetlinkSocket, family: int) -> None:
    header = GENERIC_HEADER.pack(TASKSTATS_CMD_GET, 1, 0)
    wanted = encode_attribute(1, struct.pack("=I", os.getpid()))  # TASKSTATS_CMD_ATTR_PID
    records: Iterator[TaskExit | None] = (
        parse_exit(message.body) for message in link.request(family, 0, header + wanted)
    )
    if not any(records):
        raise ParseError("taskstats", "no record of this program", b"")
