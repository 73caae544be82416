"""Swap areas: proc_swaps(5); and the memory that compressed ones take.

Source: ``Documentation/admin-guide/blockdev/zram.rst``: the third figure of ``mm_stat`` is the
memory that a zram device holds in all, which the kernel counts nowhere else.
"""

import msgspec

from dunmist.computer.parsing import ParseError, counter_of, text_of
from dunmist.computer.root import Root

SUBJECT = "swap areas"


class SwapArea(msgspec.Struct, frozen=True):
    """One area; ``kind`` is partition or file."""

    name: str
    kind: str
    size_bytes: int
    used_bytes: int
    priority: int


def parse_swaps(data: bytes) -> list[SwapArea]:
    """Return the areas of ``/proc/swaps``; raises ParseError."""
    areas = []
    for line in data.splitlines()[1:]:
        fields = line.split()
        if len(fields) < 5 or not fields[4].lstrip(b"-").isdigit() or len(fields[4]) > 6:
            raise ParseError("/proc/swaps", "expected five fields", line)
        areas.append(
            SwapArea(
                text_of(fields[0]),
                text_of(fields[1]),
                counter_of(fields[2], "/proc/swaps", "size") * 1024,
                counter_of(fields[3], "/proc/swaps", "used") * 1024,
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
    known = [one for one in held if one is not None]
    return sum(known) if known else None
