"""Read code samples of the kernel from its ring buffers: addresses, processes, threads.

Sources: perf_event_open(2) and ``include/uapi/linux/perf_event.h``. The event is ``cpu-clock``, a
timer of the kernel, so no counter of the hardware is needed. As administrator one event on each CPU
covers every program, short-lived ones included. Anybody else gets one event for each thread of
their own, without the kernel's code. Nothing is attached to a program, and none is stopped.

A model computer publishes what the kernel would have written: how many bytes there have been, and
the last of them.
"""

import ctypes
import errno
import mmap
import os
import struct
from collections.abc import Callable, Collection, Iterator
from typing import NamedTuple

from dunmist.computer.parsing import ParseError, text_of
from dunmist.computer.root import Root, reason_of

CODE_SUBJECT = "code that programs run"
OF_OTHERS = "code of other people's programs"
RECORDED = "perf/cpu-clock"
# samples a second of a full CPU; not a divisor of timers, so that it does not beat with them
FREQUENCY_HZ = 49
# number of perf_event_open(2) by machine; most have that of asm-generic/unistd.h
SYSCALLS = {"x86_64": 298, "i686": 336, "armv7l": 364, "ppc64le": 319, "s390x": 331}
SYSCALLS |= dict.fromkeys(("aarch64", "riscv64", "loongarch64"), 241)
# include/uapi/linux/perf_event.h
PERF_TYPE_SOFTWARE, PERF_COUNT_SW_CPU_CLOCK = 1, 0
PERF_SAMPLE_IP, PERF_SAMPLE_TID = 1 << 0, 1 << 1
EXCLUDE_KERNEL, EXCLUDE_HYPERVISOR, EXCLUDE_IDLE = 1 << 5, 1 << 6, 1 << 7
MMAP, COMM, FREQUENCY, TASK, MMAP2 = 1 << 8, 1 << 9, 1 << 10, 1 << 13, 1 << 23
PERF_FLAG_FD_CLOEXEC = 1 << 3
LOST, RENAMED, FORKED, SAMPLED, MAPPED = 2, 3, 7, 9, 10
MODE_MASK, MODE_KERNEL = 0x7, 1
# of struct perf_event_attr, up to the field that Linux 4.1 added last
ATTRIBUTES = struct.Struct("=IIQQQQQ")
ATTRIBUTES_BYTES = 112
# of struct perf_event_mmap_page: head and tail
HEAD_AT, TAIL_AT = 1024, 1032
_PLACE = struct.Struct("=Q")
_HEADER = struct.Struct("=IHH")
_POINT = struct.Struct("=QII")
_PIDS = struct.Struct("=II")
_LOST = struct.Struct("=QQ")
# process, thread, address, length, offset, device, inode; protection and flags are not needed
_MAPPING = struct.Struct("=IIQQQIIQ16x")
# all rings together, and the pages of one: mappings of new programs come in bursts
RINGS_PAGES, RING_PAGES_MOST = 512, 16
# of one thread a page holds three seconds
THREAD_PAGES = 1
# between two ticks; more is somebody's attempt to keep us busy
RECORDS_MOST = 20_000


class CodePoint(NamedTuple):
    """One sample: a thread was found at an address."""

    pid: int
    tid: int
    address: int
    is_kernel: bool


class NewMapping(NamedTuple):
    """A process mapped code of a file."""

    pid: int
    start: int
    end: int
    offset: int
    path: str
    file: tuple[int, int, int]  # device and inode


class NewProcess(NamedTuple):
    """A process or thread was started."""

    pid: int
    parent_pid: int


class NewName(NamedTuple):
    """A thread took another name, as by running another program."""

    pid: int
    tid: int
    name: str


CodeRecord = CodePoint | NewMapping | NewProcess | NewName


def parse_records(data: bytes) -> tuple[list[CodeRecord], int]:
    """Return the records of a ring and how many the kernel lost; raises ParseError."""
    records: list[CodeRecord] = []
    lost = at = 0
    while at < len(data):
        if len(data) - at < _HEADER.size:
            raise ParseError(CODE_SUBJECT, "a record without a header", data[at : at + 8])
        kind, misc, size = _HEADER.unpack_from(data, at)
        if size < _HEADER.size or at + size > len(data):
            raise ParseError(CODE_SUBJECT, f"a record of {size} bytes", data[at : at + 8])
        body = data[at + _HEADER.size : at + size]
        at += size
        try:
            if kind == LOST:
                lost += _LOST.unpack_from(body)[1]
            elif kind in _READERS:
                records.append(_READERS[kind](body, misc))
        except struct.error as error:
            raise ParseError(CODE_SUBJECT, f"a short record of kind {kind}", body) from error
    return records, lost


def _point(body: bytes, misc: int) -> CodePoint:
    address, pid, tid = _POINT.unpack_from(body)
    return CodePoint(pid, tid, address, misc & MODE_MASK == MODE_KERNEL)


def _mapping(body: bytes, misc: int) -> NewMapping:
    del misc
    pid, _, start, length, offset, *file = _MAPPING.unpack_from(body)
    path = text_of(body[_MAPPING.size :].partition(b"\0")[0])
    return NewMapping(pid, start, start + length, offset, path, (file[0], file[1], file[2]))


def _process(body: bytes, misc: int) -> NewProcess:
    del misc
    return NewProcess(*_PIDS.unpack_from(body))


def _name(body: bytes, misc: int) -> NewName:
    del misc
    pid, tid = _PIDS.unpack_from(body)
    return NewName(pid, tid, text_of(body[_PIDS.size :].partition(b"\0")[0]))


_READERS: dict[int, Callable[[bytes, int], CodeRecord]] = {
    SAMPLED: _point,
    MAPPED: _mapping,
    FORKED: _process,
    RENAMED: _name,
}


class _Ring:
    """The ring buffer of one event."""

    def __init__(self, descriptor: int, pages: int) -> None:
        page = mmap.PAGESIZE
        try:
            self._memory = mmap.mmap(descriptor, (1 + pages) * page)
        except OSError:
            os.close(descriptor)
            raise
        self._descriptor = descriptor
        self._first, self._size = page, pages * page

    def take(self) -> bytes:
        """Return the bytes written since the last call, and free their room."""
        (head,) = _PLACE.unpack_from(self._memory, HEAD_AT)
        (tail,) = _PLACE.unpack_from(self._memory, TAIL_AT)
        begin, length = tail % self._size, head - tail
        first = self._memory[self._first + begin : self._first + min(self._size, begin + length)]
        data = first + self._memory[self._first : self._first + length - len(first)]
        _PLACE.pack_into(self._memory, TAIL_AT, head)
        return data

    def close(self) -> None:
        """Stop sampling."""
        self._memory.close()
        os.close(self._descriptor)


class _RecordedRing:
    """Replacement of a ring on a model computer."""

    def __init__(self, root: Root) -> None:
        self._root = root
        self._taken = 0

    def take(self) -> bytes:
        """Return the bytes written since the last call; raises OSError."""
        data = self._root.read_again(RECORDED)
        if len(data) < _PLACE.size:
            return b""
        (written,) = _PLACE.unpack_from(data)
        length = max(0, min(written - self._taken, len(data) - _PLACE.size))
        self._taken = written
        return data[len(data) - length :]

    def close(self) -> None:
        """Nothing is open that is not the root's."""


class CodeEvents:
    """Samples code until it is closed: of all programs, or of the threads that it follows."""

    def __init__(self, rings: dict[int, "_Ring | _RecordedRing"], *, whole: bool) -> None:
        self._rings = rings
        self.is_whole = whole  # all programs, and the kernel's code as well
        self._kept: list[CodeRecord] = []
        self.lost = 0
        self.garbled = 0

    def follow(self, tids: Collection[int]) -> None:
        """Sample these threads and no others; of all programs nothing needs to be chosen."""
        if self.is_whole:
            return
        for tid in self._rings.keys() - set(tids):
            self._take(self._rings[tid])
            self._rings.pop(tid).close()
        for tid in tids:
            if tid not in self._rings:
                try:
                    self._rings[tid] = _Ring(_open_event(tid, -1, is_whole=False), THREAD_PAGES)
                except OSError:
                    continue  # it ended, or there is no locked memory left for it

    def gather(self) -> None:
        """Read what has arrived so far, before a ring is full."""
        for ring in self._rings.values():
            self._take(ring)

    def drain(self) -> Iterator[CodeRecord]:
        """Return the samples that arrived since the last call."""
        self.gather()
        kept, self._kept = self._kept, []
        return iter(kept)

    def close(self) -> None:
        """Stop sampling."""
        for ring in self._rings.values():
            ring.close()
        self._rings = {}

    def _take(self, ring: "_Ring | _RecordedRing") -> None:
        try:
            records, lost = parse_records(ring.take())
        except (OSError, ParseError):
            self.garbled += 1
            return
        room = RECORDS_MOST - len(self._kept)
        self.lost += lost + max(0, len(records) - room)
        self._kept += records[:room]


def open_code_events(root: Root, processors: list[int]) -> CodeEvents | None:
    """Return the source of code samples; None, with a blind spot, if there is none."""
    if not root.is_this_computer:
        if root.exists(RECORDED):
            return CodeEvents({0: _RecordedRing(root)}, whole=True)
        root.note(CODE_SUBJECT, "absent")
        return None
    if os.uname().machine not in SYSCALLS:
        root.note(CODE_SUBJECT, "absent")
        return None
    try:
        return CodeEvents(_rings_of_all(processors), whole=True)
    except PermissionError:
        pass  # the usual case of everybody but the administrator
    except OSError as error:
        root.note(CODE_SUBJECT, reason_of(error))
        return None
    try:
        os.close(_open_event(0, -1, is_whole=False))
    except OSError as error:
        root.note(CODE_SUBJECT, reason_of(error))
        return None
    root.note(OF_OTHERS, "permission")
    return CodeEvents({}, whole=False)


def _rings_of_all(processors: list[int]) -> dict[int, "_Ring | _RecordedRing"]:
    fair = max(1, RINGS_PAGES // max(1, len(processors)))
    pages = min(RING_PAGES_MOST, 1 << (fair.bit_length() - 1))
    rings: dict[int, _Ring | _RecordedRing] = {}
    try:
        for processor in processors:
            try:
                rings[processor] = _Ring(_open_event(-1, processor, is_whole=True), pages)
            except OSError as error:
                if error.errno != errno.ENODEV:  # switched off
                    raise
    except OSError:
        for ring in rings.values():
            ring.close()
        raise
    return rings


def _open_event(tid: int, processor: int, *, is_whole: bool) -> int:
    """Return the descriptor of a new event; raises OSError."""
    flags = FREQUENCY | EXCLUDE_HYPERVISOR | EXCLUDE_IDLE
    flags |= (MMAP | COMM | TASK | MMAP2) if is_whole else EXCLUDE_KERNEL
    attributes = ATTRIBUTES.pack(
        PERF_TYPE_SOFTWARE,
        ATTRIBUTES_BYTES,
        PERF_COUNT_SW_CPU_CLOCK,
        FREQUENCY_HZ,
        PERF_SAMPLE_IP | PERF_SAMPLE_TID,
        0,
        flags,
    ).ljust(ATTRIBUTES_BYTES, b"\0")
    buffer = ctypes.create_string_buffer(attributes, ATTRIBUTES_BYTES)
    library = ctypes.CDLL(None, use_errno=True)
    number = SYSCALLS[os.uname().machine]
    descriptor: int = library.syscall(number, buffer, tid, processor, -1, PERF_FLAG_FD_CLOEXEC)
    if descriptor < 0:
        error = ctypes.get_errno()
        raise OSError(error, os.strerror(error))
    return descriptor
