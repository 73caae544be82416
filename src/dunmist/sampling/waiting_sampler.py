"""Sample waiting processes between ticks, too: one sample a tick says little about their waits.

Only processes that waited at the last tick, or moved most then, are sampled, and only on this
computer; without any, nothing wakes between ticks.
"""

from dunmist.computer import Root, WaitingCall, read_stack, read_system_call

# processes read between ticks, how often, and the most calls of one tick
WATCHED_MOST, SAMPLE_S, CALLS_MOST = 4, 0.2, 64
WAITS = b"D"


class WaitingSampler:
    """Remembers what was waited in since the last tick."""

    def __init__(self, root: Root, architecture: str) -> None:
        self._root, self._architecture = root, architecture
        self._watched: list[tuple[int, str]] = []
        self._found: list[WaitingCall] = []

    @property
    def pause_s(self) -> float | None:
        """Time until the next sample; None if no process is watched."""
        return SAMPLE_S if self._watched else None

    def read(
        self, waiting: list[tuple[int, str]], moving: list[tuple[int, str]]
    ) -> list[WaitingCall]:
        """Return the system calls waited in since the last tick, the present ones included."""
        for number, pid in waiting:
            self._ask(number, pid)
        found, self._found = self._found[:CALLS_MOST], []
        if self._root.is_this_computer:
            self._watched = list(dict.fromkeys([*waiting, *moving]))[:WATCHED_MOST]
        return found

    def sample(self) -> None:
        """Sample once between two ticks."""
        for number, pid in self._watched:
            try:
                state = self._root.read(f"proc/{pid}/stat").rpartition(b")")[2].split()[:1]
            except OSError:
                continue  # it ended, and the next tick says so
            if state == [WAITS]:
                self._ask(number, pid)

    def _ask(self, number: int, pid: str) -> None:
        if len(self._found) < CALLS_MOST:
            call = read_system_call(self._root, pid, self._architecture)
            if call is not None:
                self._found.append(WaitingCall(number, *call, read_stack(self._root, pid)))
