"""Follow the positions in open files of the programs that move most, tick by tick.

Only processes that moved ``MOVED_LEAST`` bytes in a tick are examined, the greatest first. Of
their files those are kept whose position is another one than in the tick before.
"""

from collections import Counter
from collections.abc import Callable

import msgspec

from dunmist.computer import POSITIONS, Root, parse_characters, read_positions, reason_of
from dunmist.computer.parsing import Counter as Count
from dunmist.computer.parsing import Identity

WATCHED_PROCESSES = 8
# of a second; what moves less is no answer to who moves much
MOVED_LEAST_BYTES_PER_S = 256 << 10
# of one process and tick
FILES_MOST = 64


class FileSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Position in one open file at a tick; only if that changed."""

    process: Identity
    descriptor: Count
    path: str
    position: Count  # pos of proc_pid_fdinfo(5)
    access: Count  # 0 to read, 1 to write, 2 for both (open(2))
    appends: bool


class CharacterCounts(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """All that a watched process read and wrote by calls, since it started (proc_pid_io(5))."""

    process: Identity
    read_bytes: Count  # rchar
    written_bytes: Count  # wchar


class FileActivity:
    """Remembers the watched processes and the position in each file."""

    def __init__(self, root: Root) -> None:
        self._root = root
        self._known: dict[str, dict[tuple[int, str], int]] = {}

    def read(
        self, moved_bytes: Counter[str], elapsed_s: float, number_of: Callable[[str], int | None]
    ) -> tuple[list[FileSample], list[CharacterCounts]]:
        """Return the files that moved, and the totals of their processes.

        ``moved_bytes`` is what each process moved in the last ``elapsed_s``. Who is watched stays
        so for a tick in which it rests.
        """
        least = MOVED_LEAST_BYTES_PER_S * elapsed_s
        chosen = [
            pid for pid, moved in moved_bytes.most_common(WATCHED_PROCESSES) if moved >= least > 0
        ]
        resting = [pid for pid in self._known if pid not in chosen]
        watched = [*chosen, *resting][:WATCHED_PROCESSES]
        self._known = {pid: self._known.get(pid, {}) for pid in watched}
        files: list[FileSample] = []
        totals: list[CharacterCounts] = []
        for pid in watched:
            number = number_of(pid)
            if number is None:
                del self._known[pid]
                continue
            total = self._root.parse(
                f"proc/{pid}/io", parse_characters, POSITIONS, may_be_absent=True
            )
            if total is None:
                continue
            totals.append(CharacterCounts(number, *total))
            files += self._moved(pid, number)
        return files, totals

    def _moved(self, pid: str, number: int) -> list[FileSample]:
        try:
            positions = read_positions(self._root, pid)
        except OSError as error:
            if reason_of(error) != "absent":
                self._root.note(POSITIONS, reason_of(error), pid)
            return []
        known = self._known[pid]
        self._known[pid] = {(file.descriptor, file.path): file.position for file in positions}
        changed = [
            FileSample(number, *file)
            for file in positions
            if known.get((file.descriptor, file.path)) != file.position
        ]
        return changed[:FILES_MOST]
