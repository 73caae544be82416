"""Threads of the few busiest processes, one by one: to see the one that is saturated.

One read a thread and round, so only processes of several threads that used ``WATCHED_SHARE`` of a
round are looked into, and of those the busiest.
"""

from collections import Counter
from collections.abc import Callable

from dunmist.computer import (
    PROCESS_NUMBER_MAX,
    ParseError,
    Root,
    ThreadSample,
    parse_schedstat,
    parse_text,
)

WATCHED_PROCESSES = 8
# a pool of hundreds is no program that hangs on one thread
WATCHED_THREADS = 64
WATCHED_SHARE = 0.10


class BusyThreads:
    """Remembers which processes are watched and what each thread's line was."""

    def __init__(self, root: Root, clock_ticks_per_s: int) -> None:
        self._root = root
        self._clk_per_s = clock_ticks_per_s
        self._watched: dict[str, dict[str, bytes]] = {}

    def forget(self, pid: str) -> None:
        """Stop watching a process that ended."""
        self._watched.pop(pid, None)

    def watch(self, used_clk: Counter[str], elapsed_s: float) -> None:
        """Choose whom to watch, from the use of each process in a round of ``elapsed_s``."""
        least = WATCHED_SHARE * elapsed_s * self._clk_per_s
        busiest = used_clk.most_common(WATCHED_PROCESSES)
        chosen = [name for name, used in busiest if used >= least > 0]
        for name in chosen:
            self._watched.setdefault(name, {})
        for name in [name for name in self._watched if name not in chosen]:
            # who pauses for a tick is kept while there is room, or its threads would begin anew
            if len(self._watched) > WATCHED_PROCESSES:
                del self._watched[name]

    def read(
        self, number_of: Callable[[str], int], after_ms: Callable[[], int]
    ) -> list[ThreadSample]:
        """Return the threads that ran since the last call; ``number_of`` gives the identities."""
        samples = []
        for name, before in self._watched.items():
            for tid in self._root.names(f"proc/{name}/task")[:WATCHED_THREADS]:
                if not tid.isdigit() or int(tid) > PROCESS_NUMBER_MAX:
                    continue  # no thread: a copy may hold anything
                sample = self._sample(name, tid, before, number_of(name), after_ms())
                if sample:
                    samples.append(sample)
        return samples

    def _sample(
        self, name: str, tid: str, before: dict[str, bytes], number: int, after_ms: int
    ) -> ThreadSample | None:
        directory = f"proc/{name}/task/{tid}"
        try:
            data = self._root.read(f"{directory}/schedstat")
            if data == before.get(tid):
                return None
            run_ns, delay_ns = parse_schedstat(data)
        except (FileNotFoundError, ProcessLookupError):
            return None
        except (OSError, ParseError):
            self._root.note("threads", "failed")
            return None
        called = None
        if tid not in before:
            called = self._root.parse(
                f"{directory}/comm", parse_text, "threads", may_be_absent=True
            )
        before[tid] = data
        return ThreadSample(number, int(tid), run_ns, delay_ns, called, after_ms)
