"""Update a root in memory from the frames that a remote computer sends.

Processes and threads that are missing from a frame are removed. A process appears once its facts
came.
"""

import re
from contextlib import suppress

from dunmist.computer.system_changes import is_watched_path
from dunmist.remote.frame_stream import Frame, Sizes
from dunmist.remote.memory_root import MemoryRoot

# the unit of df -k
UNIT_BYTES = 1024
START_FIELD = 19  # of the fields after the name, proc_pid_stat(5)
# descriptors of a process, and bytes of a link's target
OPEN_MOST, TARGET_MOST_BYTES = 4000, 4000
_STAT = re.compile(r"proc/(\d{1,7})/stat\Z")
_TASK = re.compile(r"(proc/\d{1,7}/task/\d{1,7})/(?:schedstat|comm)\Z")


class Mirror:
    """Writes frames into a root."""

    def __init__(self, root: MemoryRoot) -> None:
        self._root = root
        self._started: dict[int, bytes] = {}
        self._tasks: set[str] = set()
        self._descriptors: dict[int, dict[int, bytes]] = {}

    def show(self, frame: Frame) -> None:
        """Bring the root to the time of a frame; raises TooMuch."""
        alive = {
            int(match[1]): _start_of(data)
            for name, data in frame.files.items()
            if (match := _STAT.fullmatch(name))
        }
        for pid, start in list(alive.items()):
            # a process that started just now, also under a reused number, is reported at the next
            # tick
            if self._started.get(pid) != start and f"proc/{pid}/status" not in frame.files:
                del alive[pid]
        gone = {pid for pid, start in self._started.items() if alive.get(pid) != start}
        tasks = {match[1] for name in frame.files if (match := _TASK.fullmatch(name))}
        # a thread is gone, too, when it is not read any more
        for directory in {f"proc/{pid}" for pid in gone} | (self._tasks - tasks):
            self._root.remove(directory)
        for pid in gone:
            self._descriptors.pop(pid, None)
        self._started, self._tasks = alive, tasks
        for directory in frame.directories:
            self._root.make_directory(directory)
        for name, data in frame.files.items():
            match = re.match(r"proc/(\d+)/", name)
            if match is None or int(match[1]) in alive:
                self._root.write(name, data)
        for pid in alive:
            self._show_process(pid, frame)
        self._show_sizes(frame)
        for name, changed_s in frame.changed_s.items():
            # a path that nobody asked for is ignored
            if is_watched_path(name):
                self._root.set_changed(name, changed_s)

    def _show_process(self, pid: int, frame: Frame) -> None:
        if (command := frame.commands.get(pid)) is not None:
            self._root.write(f"proc/{pid}/cmdline", command)
        if (target := frame.programs.get(pid)) is not None:
            self._root.link_to(f"proc/{pid}/exe", target[:TARGET_MOST_BYTES])
        if (descriptors := frame.descriptors.get(pid)) is not None:
            self._show_descriptors(pid, descriptors)

    def _show_sizes(self, frame: Frame) -> None:
        for point, sizes in frame.blocks.items():
            name = point.strip("/").replace("/", "-") or "root"
            inodes = frame.inodes.get(point, Sizes(0, 0, 0))
            numbers = (
                UNIT_BYTES,
                sizes.blocks,
                max(0, sizes.blocks - sizes.used),
                sizes.free,
                inodes.blocks,
                inodes.free,
            )
            text = " ".join(map(str, numbers))
            # a name that is no path has no reader either
            with suppress(ValueError):
                self._root.write(f"statvfs/{name[:200]}", f"{text}\n".encode())

    def _show_descriptors(self, pid: int, descriptors: dict[int, bytes]) -> None:
        before = self._descriptors.setdefault(pid, {})
        directory = f"proc/{pid}/fd"
        self._root.make_directory(directory)
        for number in [
            number for number, target in before.items() if descriptors.get(number) != target
        ]:
            self._root.remove(f"{directory}/{number}")
            del before[number]
        for number, target in list(descriptors.items())[:OPEN_MOST]:
            if number not in before:
                self._root.link_to(f"{directory}/{number}", target[:TARGET_MOST_BYTES])
                before[number] = target


def _start_of(data: bytes) -> bytes:
    """Return the field of a process's line that says when it started."""
    fields = data.rpartition(b")")[2].split()
    return fields[START_FIELD] if len(fields) > START_FIELD else b""
