"""Read the positions in the open files of a process.

Sources: proc_pid_fd(5), proc_pid_fdinfo(5), proc_pid_io(5). Only links and text are read; no file
is opened or asked for its size. A program that gives the position with each call (pread(2), mapped
files, io_uring) does not move it.
"""

import re
from typing import NamedTuple

from dunmist.computer.parsing import ParseError, count_of
from dunmist.computer.root import Root

POSITIONS = "positions in open files"
# of one process; a server has thousands
DESCRIPTORS_MOST = 256
# descriptors that are no files to a user
NOT_FILES = ("/dev/", "/proc/", "/sys/", "/memfd:", "/dmabuf:", "/SYSV")
_POSITION = re.compile(rb"^pos:\s+(\d{1,19})$", re.M)
_FLAGS = re.compile(rb"^flags:\s+([0-7]{1,12})$", re.M)
_CHARACTERS = re.compile(rb"^(rchar|wchar): (\d{1,19})$", re.M)
# open(2)
ACCESS_MASK, APPENDS = 0o3, 0o2000


class FilePosition(NamedTuple):
    """One open file: its descriptor and path, how far it is, and how it was opened."""

    descriptor: int
    path: str
    position: int
    access: int  # 0 to read, 1 to write, 2 for both
    appends: bool


def parse_position(data: bytes) -> tuple[int, int]:
    """Return position and flags of ``/proc/PID/fdinfo/N``; raises ParseError."""
    position, flags = _POSITION.search(data), _FLAGS.search(data)
    if not position or not flags:
        raise ParseError("/proc/PID/fdinfo", "expected pos and flags", data)
    return count_of(position[1], "/proc/PID/fdinfo"), int(flags[1], 8)


def parse_characters(data: bytes) -> tuple[int, int]:
    """Return bytes of all calls that read and that wrote, whatever served them.

    Raises ParseError.
    """
    words = dict(_CHARACTERS.findall(data))
    if len(words) < 2:
        raise ParseError("/proc/PID/io", "expected rchar and wchar", data)
    return count_of(words[b"rchar"], "/proc/PID/io"), count_of(words[b"wchar"], "/proc/PID/io")


def read_positions(root: Root, pid: str) -> list[FilePosition]:
    """Return the positions of the open files of a process; raises OSError."""
    found = []
    for name, target in root.links_in(f"proc/{pid}/fd"):
        if target is None or not target.startswith("/") or target.startswith(NOT_FILES):
            continue
        about = root.parse(
            f"proc/{pid}/fdinfo/{name}", parse_position, POSITIONS, may_be_absent=True
        )
        if about is not None and name.isdigit():
            position, flags = about
            access = flags & ACCESS_MASK
            found.append(FilePosition(int(name), target, position, access, bool(flags & APPENDS)))
        if len(found) == DESCRIPTORS_MOST:
            root.note(POSITIONS, "too-many", pid)
            break
    return found
