"""The machine's memory, its paging, and its swap areas.

Sources: proc(5) on ``/proc/meminfo`` and ``/proc/vmstat``, proc_swaps(5);
``Documentation/admin-guide/blockdev/zram.rst``: the third figure of ``mm_stat`` is the memory that
a compressed swap device holds in all, which the kernel counts nowhere else. ``kB`` in meminfo means
1,024 bytes; the lines without a unit are counts of huge pages. The words are kept as the kernel
gives them, so that a later analysis finds what this one did not use.
"""

import re

import msgspec

from dunmist.computer.parsing import COUNTER_MAX, Counter, ParseError, counter_of, lines_of, text_of
from dunmist.computer.root import Root

# of some hundred words, those about paging and the waits that it causes
PAGING_COUNTERS = frozenset(
    (
        "pgpgin",
        "pgpgout",
        "pswpin",
        "pswpout",
        "pgfault",
        "pgmajfault",
        "pgscan_kswapd",
        "pgscan_direct",
        "pgsteal_kswapd",
        "pgsteal_direct",
        "workingset_refault_anon",
        "workingset_refault_file",
        "oom_kill",
        "allocstall_dma",
        "allocstall_dma32",
        "allocstall_normal",
        "allocstall_movable",
        "compact_stall",
    )
)
_MEMINFO = re.compile(rb"^([^:\n]{1,40}):\s+(\d{1,15})(?: kB)?$", re.M)


def parse_meminfo(data: bytes) -> dict[str, int]:
    """Return each line of ``/proc/meminfo`` in KiB (or pages, where so); raises ParseError."""
    meminfo = {text_of(name): int(amount) for name, amount in _MEMINFO.findall(data)}
    # a container runtime may hand out an empty file
    if not meminfo.get("MemTotal"):
        raise ParseError("/proc/meminfo", "expected MemTotal", data)
    return meminfo


# of some two hundred words few are wanted
_PAGING = re.compile(rb"^(%s) (.+)$" % b"|".join(map(str.encode, sorted(PAGING_COUNTERS))), re.M)


def parse_vmstat(data: bytes) -> dict[str, int]:
    """Return the paging counters of ``/proc/vmstat``, in pages but for pgpgin and pgpgout (KiB)."""
    vmstat = {
        text_of(word): counter_of(value, "/proc/vmstat", text_of(word))
        for word, value in _PAGING.findall(data)
    }
    if not vmstat:
        raise ParseError("/proc/vmstat", "expected paging counters", data)
    return vmstat


SUBJECT = "swap areas"


class SwapArea(msgspec.Struct, frozen=True):
    """One area; ``kind`` is partition or file."""

    name: str
    kind: str
    size_bytes: Counter
    used_bytes: Counter
    priority: int


def parse_swaps(data: bytes) -> list[SwapArea]:
    """Return the areas of ``/proc/swaps``; raises ParseError."""
    areas = []
    # the first line is a heading
    for line in lines_of(data)[1:]:
        fields = line.split()
        if len(fields) < 5 or not fields[4].lstrip(b"-").isdigit() or len(fields[4]) > 6:
            raise ParseError("/proc/swaps", "expected five fields", line)
        areas.append(
            SwapArea(
                text_of(fields[0]),
                text_of(fields[1]),
                min(counter_of(fields[2], "/proc/swaps", "size") * 1024, COUNTER_MAX),
                min(counter_of(fields[3], "/proc/swaps", "used") * 1024, COUNTER_MAX),
                int(fields[4]),
            )
        )
    return areas


def parse_mm_stat(data: bytes) -> int:
    """Return the bytes of memory that a zram device holds; raises ParseError."""
    fields = data.split()
    if len(fields) < 3:
        raise ParseError("zram mm_stat", "expected eight numbers", data)
    return counter_of(fields[2], "zram mm_stat", "memory used")


def find_zram(root: Root) -> list[str]:
    """Return the names of compressed memory devices."""
    return [name for name in root.names("sys/block") if name.startswith("zram")]


def read_zram_bytes(root: Root, names: list[str]) -> int | None:
    """Return the memory that all of them hold together, None without any."""
    held = [
        root.parse(f"sys/block/{name}/mm_stat", parse_mm_stat, SUBJECT, again=True)
        for name in names
    ]
    known = [part for part in held if part is not None]
    return sum(known) if known else None
