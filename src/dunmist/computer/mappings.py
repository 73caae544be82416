"""The code that a process has mapped: ``/proc/PID/maps`` (proc_pid_maps(5))."""

import re
from bisect import bisect_right
from typing import NamedTuple

from dunmist.computer.parsing import text_of

# addresses, permissions, offset, device, inode, path
_LINE = re.compile(
    rb"^([0-9a-f]{1,16})-([0-9a-f]{1,16}) ..x. ([0-9a-f]{1,16}) "
    rb"([0-9a-f]{1,8}):([0-9a-f]{1,8}) (\d{1,20})[ \t]*(.*)$",
    re.M,
)
# of one process; more are somebody's attempt to fill the memory
MAPPINGS_MOST = 4096


class Mapping(NamedTuple):
    """One range of addresses that may be executed, and where in which file it begins."""

    start: int
    end: int
    offset: int
    path: str  # empty for memory that belongs to no file
    # device and inode: of two containers, files of one path are two
    file: tuple[int, int, int] = (0, 0, 0)


def parse_mappings(data: bytes) -> list[Mapping]:
    """Return the executable mappings in the order of their addresses."""
    found = []
    for match in _LINE.finditer(data):
        start, end, offset, major, minor = (int(match[part], 16) for part in (1, 2, 3, 4, 5))
        file = (major, minor, int(match[6]))
        found.append(Mapping(start, end, offset, text_of(match[7]), file))
        if len(found) == MAPPINGS_MOST:
            break
    return sorted(found)


def find_mapping(mappings: list[Mapping], address: int) -> Mapping | None:
    """Return the mapping that an address lies in."""
    index = bisect_right(mappings, address, key=lambda mapping: mapping.start) - 1
    if index < 0 or address >= mappings[index].end:
        return None
    return mappings[index]
