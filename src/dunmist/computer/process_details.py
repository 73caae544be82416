"""Read what is expensive to read of a process, and therefore read seldom.

Sources: proc_pid_fd(5), proc_pid_limits(5), proc_pid_status(5), proc_pid_wchan(5),
proc_pid_smaps(5) and ``Documentation/ABI/testing/procfs-smaps_rollup``. Only the owner of a process
and the administrator may read its descriptors.
"""

import re
from typing import NamedTuple

import msgspec

from dunmist.computer.parsing import Counter, Identity, ParseError, count_of, counter_of, text_of
from dunmist.computer.root import Root, reason_of

DESCRIPTORS = "descriptors and sockets of processes"
MEMORY = "shared and proportional memory"
_SOCKET = re.compile(r"socket:\[(\d{1,19})\]\Z")
_LIMIT = re.compile(rb"^Max open files\s+(\d{1,19}|unlimited)\s", re.M)
_SWAP = re.compile(rb"^VmSwap:\s+(\d{1,15}) kB$", re.M)
_VIRTUAL = re.compile(rb"^VmSize:\s+(\d{1,15}) kB$", re.M)
_CPUS = re.compile(rb"^Cpus_allowed_list:\s+([\d,-]{1,4000})$", re.M)
_CPU_RANGE = re.compile(rb"(\d{1,6})(?:-(\d{1,6}))?")
# one entry of the auxiliary vector with 32 bits
AUXILIARY_BYTES, ZERO_HALF = 8, bytes(4)
_ROLLUP = re.compile(rb"^(\w{1,20}):\s+(\d{1,15}) kB$", re.M)
GRAPHICS_DEVICES = "/dev/dri/"


class ProcessDetail(msgspec.Struct, frozen=True, array_like=True):
    """Expensive figures of one process; None is 'could not be read'."""

    process: Identity
    descriptors: Counter | None
    descriptor_limit: Counter | None  # soft limit of open files (getrlimit(2))
    swap_kib: Counter | None  # VmSwap of proc_pid_status(5)
    waits_in: str | None  # kernel function in which its first thread sleeps, None while it runs
    sockets: list[Counter]  # inodes of its open sockets
    virtual_kib: Counter | None = None  # VmSize
    bits: Counter | None = None  # word size of its program: 32 or 64
    cpus: Counter | None = None  # logical CPUs that its first thread may run on


class MemoryRollup(msgspec.Struct, frozen=True, array_like=True):
    """Memory of one process from smaps_rollup, in KiB."""

    process: Identity
    rss_kib: Counter
    pss_kib: Counter  # shared pages divided among their sharers
    private_kib: Counter  # clean and dirty pages of its own: what its end frees
    swap_pss_kib: Counter | None  # None before Linux 4.4
    locked_kib: Counter | None
    # parts of pss_kib, None before Linux 5.4: data of its own, files, memory shared by name
    data_kib: Counter | None = None
    files_kib: Counter | None = None
    shared_kib: Counter | None = None


class Details(NamedTuple):
    """A detail, and the descriptors of it that belong to graphics cards."""

    detail: ProcessDetail
    graphics: list[str]


def parse_descriptor_limit(data: bytes) -> int | None:
    """Return the limit of open files, None for unlimited; raises ParseError."""
    match = _LIMIT.search(data)
    if not match:
        raise ParseError("/proc/PID/limits", "expected 'Max open files'", data)
    return None if match[1] == b"unlimited" else count_of(match[1], "/proc/PID/limits")


class StatusDetails(NamedTuple):
    """Lines of ``/proc/PID/status``; memory is None for a kernel task, which has none."""

    swap_kib: int | None = None
    virtual_kib: int | None = None
    cpus: int | None = None  # number of logical CPUs in Cpus_allowed_list


def parse_status_details(data: bytes) -> StatusDetails:
    """Return swapped-out memory, the size of the address space, and the allowed CPUs."""
    swap, virtual, cpus = _SWAP.search(data), _VIRTUAL.search(data), _CPUS.search(data)
    return StatusDetails(
        int(swap[1]) if swap else None,
        int(virtual[1]) if virtual else None,
        _count_cpus(cpus[1]) if cpus else None,
    )


def _count_cpus(ranges: bytes) -> int | None:
    """Return the number of CPUs in a list like ``0-3,7`` (proc_pid_status(5)), None if invalid."""
    count = 0
    for part in ranges.split(b","):
        match = _CPU_RANGE.fullmatch(part)
        if match is None:
            return None
        count += max(0, int(match[2] or match[1]) - int(match[1]) + 1)
    return count


def parse_bits(data: bytes) -> int | None:
    """Return the word size of the program by its auxiliary vector (proc_pid_auxv(5))."""
    if len(data) < AUXILIARY_BYTES:
        return None
    # each entry begins with a small number of one word: half of it is zero in 64 bits
    return 64 if ZERO_HALF in (data[:4], data[4:8]) else 32


def parse_waits_in(data: bytes) -> str | None:
    """Return the kernel function, None for a running task or a hidden function."""
    name = text_of(data.strip(b"\0\n "))
    # 0 is written for a running task, and for every task if the function is hidden
    return None if name in ("", "0") else name


def parse_rollup(data: bytes, process: int) -> MemoryRollup:
    """Return the sums of ``smaps_rollup``; raises ParseError."""
    words = {name: int(kib) for name, kib in _ROLLUP.findall(data)}
    if b"Rss" not in words or b"Pss" not in words:
        raise ParseError("/proc/PID/smaps_rollup", "expected Rss and Pss", data)
    return MemoryRollup(
        process,
        words[b"Rss"],
        words[b"Pss"],
        words.get(b"Private_Clean", 0) + words.get(b"Private_Dirty", 0),
        words.get(b"SwapPss"),
        words.get(b"Locked"),
        words.get(b"Pss_Anon"),
        words.get(b"Pss_File"),
        words.get(b"Pss_Shmem"),
    )


def read_details(root: Root, pid: str, process: int) -> Details:
    """Return the details of one process; what it hides is counted as a blind spot."""
    # reading links opens nothing: no device wakes, no pipe ends
    count, sockets, graphics = _descriptors(root, pid)
    directory = f"proc/{pid}"
    status = (
        root.parse(
            f"{directory}/status", parse_status_details, "swap of processes", may_be_absent=True
        )
        or StatusDetails()
    )
    detail = ProcessDetail(
        process,
        count,
        root.parse(f"{directory}/limits", parse_descriptor_limit, DESCRIPTORS, may_be_absent=True),
        status.swap_kib,
        root.parse(
            f"{directory}/wchan", parse_waits_in, "what processes wait in", may_be_absent=True
        ),
        sockets,
        status.virtual_kib,
        root.parse(f"{directory}/auxv", parse_bits, DESCRIPTORS, may_be_absent=True),
        status.cpus,
    )
    return Details(detail, graphics)


def read_rollup(root: Root, pid: str, process: int) -> MemoryRollup | None:
    """Return the exact memory of one process, None when it may not be read."""
    return root.parse(
        f"proc/{pid}/smaps_rollup",
        lambda data: parse_rollup(data, process),
        MEMORY,
        may_be_absent=True,
    )


def _descriptors(root: Root, pid: str) -> tuple[int | None, list[int], list[str]]:
    try:
        links = list(root.links_in(f"proc/{pid}/fd"))
    except OSError as error:
        if reason_of(error) != "absent":
            root.note(DESCRIPTORS, reason_of(error), pid)
        return None, [], []
    sockets, graphics = [], []
    for name, target in links:
        if target is None:
            continue  # closed between the listing and the reading
        if target.startswith("socket:"):
            match = _SOCKET.match(target)
            if match:
                sockets.append(counter_of(match[1].encode(), "/proc/PID/fd", "inode"))
        elif target.startswith(GRAPHICS_DEVICES):
            graphics.append(name)
    return len(links), sockets, graphics
