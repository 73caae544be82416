"""A directory that holds what a far computer published at one moment, kept in step frame by frame.

Files are rewritten in place, so that a reader that keeps them open sees the new text, as with the
kernel's own. Every name comes from elsewhere: nothing is written but below this directory, and no
link is followed.
"""

import os
import re
import shutil
from pathlib import Path

from dunmist.elsewhere.stream import Frame, Sizes

UNIT_BYTES = 1024
START_FIELD = 19  # of the fields after the name, proc_pid_stat(5)
OPEN_MOST, TARGET_MOST_BYTES = 4000, 4000
_STAT = re.compile(r"proc/(\d{1,7})/stat\Z")
_TASK = re.compile(r"(proc/\d{1,7}/task/\d{1,7})/(?:schedstat|comm)\Z")


class Mirror:
    """Writes frames below a directory."""

    def __init__(self, directory: Path) -> None:
        self._directory = directory
        self._known: dict[str, bytes] = {}
        self._made: set[str] = set()
        self._started: dict[int, bytes] = {}
        self._tasks: set[str] = set()
        self._descriptors: dict[int, dict[int, bytes]] = {}

    def show(self, frame: Frame) -> None:
        """Bring the directory to the moment of a frame."""
        alive = {
            int(match[1]): _start_of(data)
            for name, data in frame.files.items()
            if (match := _STAT.fullmatch(name))
        }
        for pid, start in list(alive.items()):
            # one that came just now, also by a number that is used again, is told of at the next
            if self._started.get(pid) != start and f"proc/{pid}/status" not in frame.files:
                del alive[pid]
        gone = {pid for pid, start in self._started.items() if alive.get(pid) != start}
        tasks = {match[1] for name in frame.files if (match := _TASK.fullmatch(name))}
        # a thread is gone, too, when it is not read any more
        self._take_away({f"proc/{pid}" for pid in gone} | (self._tasks - tasks))
        for pid in gone:
            self._descriptors.pop(pid, None)
        self._started, self._tasks = alive, tasks
        for directory in frame.directories:
            self._make(directory)
        for name, data in frame.files.items():
            match = re.match(r"proc/(\d+)/", name)
            if match is None or int(match[1]) in alive:
                self._write(name, data)
        for pid, command in frame.commands.items():
            if pid in alive:
                self._write(f"proc/{pid}/cmdline", command)
        for pid, target in frame.programs.items():
            if pid in alive:
                self._link(f"proc/{pid}/exe", target)
        for pid, descriptors in frame.descriptors.items():
            if pid in alive:
                self._show_descriptors(pid, descriptors)
        self._show_sizes(frame)

    def _show_sizes(self, frame: Frame) -> None:
        for point, sizes in frame.blocks.items():
            name = point.strip("/").replace("/", "-") or "root"
            inodes = frame.inodes.get(point, Sizes(0, 0, 0))
            numbers = (
                UNIT_BYTES, sizes.blocks, max(0, sizes.blocks - sizes.used), sizes.free,
                inodes.blocks, inodes.free,
            )  # fmt: skip
            text = " ".join(map(str, numbers))
            self._write(f"statvfs/{name[:200]}", f"{text}\n".encode())

    def _show_descriptors(self, pid: int, descriptors: dict[int, bytes]) -> None:
        before = self._descriptors.setdefault(pid, {})
        self._make(f"proc/{pid}/fd")
        for number in [number for number, target in before.items()
                       if descriptors.get(number) != target]:  # fmt: skip
            (self._directory / f"proc/{pid}/fd/{number}").unlink()
            del before[number]
        for number, target in list(descriptors.items())[:OPEN_MOST]:
            if number not in before:
                self._link(f"proc/{pid}/fd/{number}", target)
                before[number] = target

    def _write(self, name: str, data: bytes) -> None:
        if self._known.get(name) == data:
            return
        self._known[name] = data
        self._make(name.rpartition("/")[0])
        flags = os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW
        descriptor = os.open(self._directory / name, flags, 0o600)
        try:
            os.pwrite(descriptor, data, 0)
            os.ftruncate(descriptor, len(data))
        finally:
            os.close(descriptor)

    def _link(self, name: str, target: bytes) -> None:
        self._make(name.rpartition("/")[0])
        place = self._directory / name
        place.unlink(missing_ok=True)
        place.symlink_to(os.fsdecode(target[:TARGET_MOST_BYTES]))

    def _make(self, directory: str) -> None:
        if directory not in self._made:
            (self._directory / directory).mkdir(parents=True, exist_ok=True, mode=0o700)
            self._made.add(directory)

    def _take_away(self, directories: set[str]) -> None:
        inside = tuple(f"{directory}/" for directory in directories)
        for name in [name for name in self._known if name.startswith(inside)]:
            del self._known[name]
        self._made = {name for name in self._made if not f"{name}/".startswith(inside)}
        for directory in directories:
            shutil.rmtree(self._directory / directory, ignore_errors=True)


def _start_of(data: bytes) -> bytes:
    """Return the field of a process's line that says when it started."""
    fields = data.rpartition(b")")[2].split()
    return fields[START_FIELD] if len(fields) > START_FIELD else b""
