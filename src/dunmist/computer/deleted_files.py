"""Files that were deleted while a process has them open: they take room until it closes them.

Sources: proc_pid_fd(5), whose links of such files end in `` (deleted)``; stat(2) of the link for
the size. Files of other computers and of programs that serve files are not asked.
"""

import time
from collections.abc import Iterable, Sequence

import msgspec

from dunmist.computer.file_positions import NOT_FILES
from dunmist.computer.file_systems import DISTANT, FileSystem
from dunmist.computer.parsing import Counter, Identity
from dunmist.computer.root import Root

SUBJECT = "deleted files that are still open"
DELETED_MARK = " (deleted)"
# looking for them is bounded, and what is smaller frees nothing to speak of
TOOK_MOST_S, SIZE_LEAST_BYTES, FILES_MOST = 0.3, 10 << 20, 20
# looked for where a file system has no more room than this share
ROOM_LEAST = 0.15


class DeletedFile(msgspec.Struct, frozen=True):
    """One such file, the process that has it open, and the mount point that its path is below."""

    process: Identity
    path: str
    size_bytes: Counter
    point: str


def read_deleted_files(
    root: Root, pids: Iterable[tuple[int, int]], file_systems: Sequence[FileSystem]
) -> list[DeletedFile]:
    """Return the largest of them by identity and PID; nothing while every file system has room.

    A file that several processes have open counts for the first.
    """
    if not any(_is_narrow(about) for about in file_systems):
        return []
    until_s = time.monotonic() + TOOK_MOST_S
    found: dict[str, DeletedFile] = {}
    for number, pid in pids:
        if time.monotonic() > until_s:
            root.note(SUBJECT, "too-many")
            break
        try:
            links = list(root.links_in(f"proc/{pid}/fd"))
        except PermissionError:
            root.note(SUBJECT, "permission", str(pid))
            continue
        except OSError:
            continue  # it ended meanwhile
        for name, target in links:
            if target is None or not target.endswith(DELETED_MARK) or target in found:
                continue
            about = _file_system_of(target, file_systems)
            if about is None or DISTANT.match(about.kind) or target.startswith(NOT_FILES):
                continue
            size = root.size_bytes(f"proc/{pid}/fd/{name}")
            if size is not None and size >= SIZE_LEAST_BYTES:
                path = target.removesuffix(DELETED_MARK)
                found[target] = DeletedFile(number, path, size, about.point)
    return sorted(found.values(), key=lambda file: -file.size_bytes)[:FILES_MOST]


def _is_narrow(about: FileSystem) -> bool:
    if about.read_only or not about.size_bytes or about.available_bytes is None:
        return False
    return about.available_bytes < ROOM_LEAST * about.size_bytes


def _file_system_of(path: str, file_systems: Sequence[FileSystem]) -> FileSystem | None:
    below = (
        about for about in file_systems if f"{path}/".startswith(about.point.rstrip("/") + "/")
    )
    return max(below, key=lambda about: len(about.point), default=None)
