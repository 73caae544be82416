"""File systems: where each is mounted, its type, size and what is left.

Sources: proc_pid_mountinfo(5), statvfs(3). Pseudo file systems hold nothing and are left out. A
file system on another computer may not answer for hours, and a process that asks it cannot be ended
meanwhile. So a child process with a deadline asks, and is then left to itself.
"""

import os
import re
from collections.abc import Iterator
from typing import NamedTuple

import msgspec

from dunmist.computer.deadlined_processes import ask_children
from dunmist.computer.parsing import COUNTER_MAX, Counter, ParseError, lines_of, text_of
from dunmist.computer.root import Root, reason_of

SUBJECT = "file systems"
# types without storage of their own (Documentation/filesystems/)
PSEUDO = frozenset(
    (
        "proc",
        "sysfs",
        "devtmpfs",
        "devpts",
        "cgroup",
        "cgroup2",
        "securityfs",
        "debugfs",
        "tracefs",
        "configfs",
        "pstore",
        "bpf",
        "mqueue",
        "hugetlbfs",
        "autofs",
        "binfmt_misc",
        "efivarfs",
        "fusectl",
        "rpc_pipefs",
        "nsfs",
        "selinuxfs",
        "ramfs",
        "squashfs",
    )
)
KERNEL_TREES = ("/proc/", "/sys/")
# types that may wait for another computer or another program
DISTANT = re.compile(r"(?:nfs|nfs4|cifs|smb3|smbfs|9p|ceph|afs|ncpfs|fuse(?:\..*)?|glusterfs)\Z")
_ESCAPED = re.compile(rb"\\([0-7]{3})")
_ASK = (
    "import os,sys\nv=os.statvfs(sys.argv[1])\n"
    "print(v.f_frsize,v.f_blocks,v.f_bfree,v.f_bavail,v.f_files,v.f_ffree)"
)
# file systems that a program serves, which begin with this and its name (fuse(4))
SERVED = "fuse."


class Mount(NamedTuple):
    """One line of /proc/PID/mountinfo (proc_pid_mountinfo(5))."""

    device: str  # field 3, major:minor of the file system
    point: str
    kind: str
    source: str  # the device or server, by the word of the file system
    read_only: bool


class FileSystem(msgspec.Struct, frozen=True, omit_defaults=True):
    """One mounted file system; sizes are None if it did not answer."""

    point: str
    kind: str
    source: str
    read_only: bool
    size_bytes: Counter | None = None
    free_bytes: Counter | None = None  # with the blocks reserved for the administrator
    available_bytes: Counter | None = None  # room that ordinary users may still use
    inodes: Counter | None = None  # 0 where the type has no fixed number of them
    inodes_free: Counter | None = None
    unanswered: bool = False  # statvfs(3) did not return in time


def _mounts(root: Root, name: str) -> list[Mount] | None:
    """Return the mounts of a file, without lines that cannot be read, which are counted."""
    lines = root.parse(name, lines_of, SUBJECT)
    if lines is None:
        return None
    mounts = (root.parsed(line, parse_mount, SUBJECT, text_of(line[:200])) for line in lines)
    return [mount for mount in mounts if mount is not None]


def parse_mount(line: bytes) -> Mount:
    """Return the mount of a line of mountinfo; raises ParseError."""
    head, separator, tail = line.partition(b" - ")
    before, after = head.split(b" "), tail.split(b" ")
    if not separator or len(before) < 6 or len(after) < 2:
        raise ParseError("/proc/self/mountinfo", "expected ten fields", line)
    options = before[5].split(b",") + (after[2].split(b",") if len(after) > 2 else [])
    point, source = _unescaped(before[4]), _unescaped(after[1])
    # no path holds it, and nobody can be asked about one that does
    if not point.startswith("/") or "\0" in point + source:
        raise ParseError("/proc/self/mountinfo", "no path", before[4])
    return Mount(
        device=text_of(before[2]),
        point=point,
        kind=text_of(after[0]),
        source=source,
        read_only=b"ro" in options,
    )


def _unescaped(field: bytes) -> str:
    return text_of(_ESCAPED.sub(lambda match: bytes([int(match[1], 8) & 0xFF]), field))


def read_file_systems(root: Root) -> list[FileSystem]:
    """Return each file system once, at the mount point nearest to the root."""
    mounts = _mounts(root, "proc/self/mountinfo")
    if mounts is None:
        mounts = _mounts(root, "proc/1/mountinfo") or []
    return [_measured(root, mount) for mount in _shown(mounts)]


def _shown(mounts: list[Mount]) -> Iterator[Mount]:
    # a later mount hides an earlier one on the same mount point
    on_top = {mount.point: mount for mount in mounts}
    nearest: dict[str, Mount] = {}
    for mount in on_top.values():
        if mount.kind in PSEUDO or mount.point.startswith(KERNEL_TREES):
            continue
        other = nearest.get(mount.device)
        if other is None or len(mount.point) < len(other.point):
            nearest[mount.device] = mount
    yield from nearest.values()


def _measured(root: Root, mount: Mount) -> FileSystem:
    try:
        sizes = _sizes(root, mount)
    except TimeoutError:
        root.note("file systems that do not answer", "failed", mount.point)
        return FileSystem(mount.point, mount.kind, mount.source, mount.read_only, unanswered=True)
    if sizes is None or sizes[0] <= 0:
        return FileSystem(mount.point, mount.kind, mount.source, mount.read_only)
    # a type without a number of its own may answer with the greatest there is
    unit, blocks, free, available, inodes, inodes_free = (min(size, COUNTER_MAX) for size in sizes)
    return FileSystem(
        point=mount.point,
        kind=mount.kind,
        source=mount.source,
        read_only=mount.read_only or _is_archive(mount.kind, free, inodes_free),
        size_bytes=min(blocks * unit, COUNTER_MAX),
        free_bytes=min(free * unit, COUNTER_MAX),
        available_bytes=min(available * unit, COUNTER_MAX),
        inodes=inodes,
        inodes_free=inodes_free,
    )


def _is_archive(kind: str, free: int, inodes_free: int) -> bool:
    """Whether a program shows what it unpacks as a file system: nothing is ever free there.

    Such a mount need not say that it is read-only (mount.fuse(8)); a full disk has inodes left, or
    a device of its own below (``fuseblk``).
    """
    return kind.startswith(SERVED) and not free and not inodes_free


def _sizes(root: Root, mount: Mount) -> list[int] | None:
    if not root.is_this_computer:
        # a copy cannot be asked; a model computer publishes what statvfs(3) would answer
        name = mount.point.strip("/").replace("/", "-") or "root"
        return root.parse(f"statvfs/{name}", parse_sizes, SUBJECT)
    try:
        if DISTANT.match(mount.kind):
            return parse_sizes(_ask_in_child(mount.point))
        statvfs = os.statvfs(mount.point)
    except TimeoutError:
        raise
    except OSError as error:
        root.note(SUBJECT, reason_of(error), mount.point)
        return None
    except ParseError:
        # the child that asked was refused
        root.note(SUBJECT, "failed", mount.point)
        return None
    return [
        statvfs.f_frsize,
        statvfs.f_blocks,
        statvfs.f_bfree,
        statvfs.f_bavail,
        statvfs.f_files,
        statvfs.f_ffree,
    ]


def parse_sizes(data: bytes) -> list[int]:
    """Return unit, blocks, free, available, inodes and free inodes; raises ParseError."""
    fields = data.split()
    if len(fields) != 6 or not all(field.isdigit() and len(field) <= 20 for field in fields):
        raise ParseError("statvfs", "expected six numbers", data)
    return [int(field) for field in fields]


def _ask_in_child(point: str) -> bytes:
    answer = ask_children({point: ("-c", _ASK, point)})[point]
    if answer is None:
        raise TimeoutError
    return answer
