"""Threads of the few busiest processes, one by one: to see the one that is saturated.

One read a thread and round, so only processes of several threads that used ``WATCHED_SHARE`` of a
round are examined, and of those the busiest. Where there are too many threads, those that ran
when they were last read are read in every round, the others in rotation.
"""

from bisect import bisect_right
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field

from dunmist.computer import (
    PROCESS_NUMBER_MAX,
    ParseError,
    Root,
    ThreadSample,
    parse_schedstat,
    parse_text,
)

# reading threads costs most, so the busiest processes only
WATCHED_PROCESSES = 8
# of all processes together, the busiest first; so many cost 0.4 % of a CPU at 1 s
WATCHED_THREADS = 256
# of a core: below it no thread can be a bottleneck
WATCHED_SHARE = 0.10
# a thread that ran for so long before it was first read may be the one that runs now
LONG_RUN_NS = 1_000_000_000


@dataclass(slots=True)
class _Watched:
    """A process's threads: the line of each, who was read in the last round, and who ran in it.

    ``turn`` is the last one whose turn it was.
    """

    lines: dict[str, bytes] = field(default_factory=dict)
    read: set[str] = field(default_factory=set)
    ran: set[str] = field(default_factory=set)
    turn: str = ""


class BusyThreads:
    """Remembers which processes are watched and what each thread's line was."""

    def __init__(self, root: Root, clock_ticks_per_s: int) -> None:
        self._root = root
        self._clk_per_s = clock_ticks_per_s
        self._watched: dict[str, _Watched] = {}

    def forget(self, pid: str) -> None:
        """Stop watching a process that ended."""
        self._watched.pop(pid, None)

    def watch(self, used_clk: Counter[str], elapsed_s: float) -> None:
        """Choose the processes to watch, from the use of each in a round of ``elapsed_s``."""
        least = WATCHED_SHARE * elapsed_s * self._clk_per_s
        busiest = used_clk.most_common(WATCHED_PROCESSES)
        chosen = [name for name, used in busiest if used >= least > 0]
        # a process that is idle for a tick is kept while there is room: its threads go on
        paused = [name for name in self._watched if name not in chosen]
        kept = [*chosen, *paused][:WATCHED_PROCESSES]
        self._watched = {name: self._watched.get(name) or _Watched() for name in kept}

    def ran(self, pid: str) -> list[int]:
        """Return the threads of a process that ran lately, all of one that is not watched."""
        watched = self._watched.get(pid)
        names = watched.ran if watched and watched.ran else self._root.names(f"proc/{pid}/task")
        return [int(tid) for tid in names if tid.isdigit() and int(tid) <= PROCESS_NUMBER_MAX]

    def read(
        self, number_of: Callable[[str], int], after_ms: Callable[[], int]
    ) -> list[ThreadSample]:
        """Return the threads that ran since the last call; ``number_of`` gives the identities.

        One that was not read the last time has its name again: what it did meanwhile is unknown.
        """
        samples = []
        left = WATCHED_THREADS
        for name, watched in self._watched.items():
            # a copy may hold anything, and a remote computer does not send them all the time
            there = [
                tid
                for tid in self._root.names(f"proc/{name}/task")
                if tid.isdigit() and int(tid) <= PROCESS_NUMBER_MAX
            ]
            for tid in watched.lines.keys() - set(there):
                del watched.lines[tid]
            tids = _in_turn(watched, there, left)
            left -= len(tids)
            watched.ran &= set(there) - set(tids)
            known = watched.lines.keys() & set(tids)
            for tid in tids:
                sample = self._sample(name, tid, watched, number_of(name), after_ms())
                if sample:
                    samples.append(sample)
                    if tid in known or sample.run_ns >= LONG_RUN_NS:
                        watched.ran.add(tid)
            watched.read = set(tids)
        return samples

    def _sample(
        self, name: str, tid: str, watched: _Watched, number: int, after_ms: int
    ) -> ThreadSample | None:
        directory = f"proc/{name}/task/{tid}"
        try:
            data = self._root.read(f"{directory}/schedstat")
            if data == watched.lines.get(tid):
                return None
            run_ns, delay_ns = parse_schedstat(data)
        except (FileNotFoundError, ProcessLookupError):
            return None
        except (OSError, ParseError):
            self._root.note("threads", "failed")
            return None
        called = None
        if tid not in watched.lines or tid not in watched.read:
            called = self._root.parse(
                f"{directory}/comm", parse_text, "threads", may_be_absent=True
            )
        watched.lines[tid] = data
        return ThreadSample(number, int(tid), run_ns, delay_ns, called, after_ms)


def _in_turn(watched: _Watched, there: list[str], most: int) -> list[str]:
    """Return the threads to read, at most so many: those that ran, and others in rotation."""
    if len(there) <= most:
        return there
    ran = [tid for tid in there if tid in watched.ran][:most]
    others = [tid for tid in there if tid not in watched.ran]
    begin = bisect_right(others, watched.turn)
    others = (others[begin:] + others[:begin])[: most - len(ran)]
    watched.turn = others[-1] if others else watched.turn
    return ran + others
