"""Follow all processes from round to round: new, changed and exited ones.

Given a root, it returns one ``ProcessRound`` a tick. A line equal to that of the round before is
not parsed, and nothing else of that process is read. What is expensive is read in rotation: of each
process that changed, once in ``DETAIL_ROUNDS`` rounds. On a slow computer a round takes so long
that the first and the last process are read at different times: each sample carries its own.
"""

import os
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from heapq import nlargest

from dunmist.computer import (
    DELETED,
    GraphicsUse,
    MemoryRollup,
    ParseError,
    ProcessDetail,
    ProcessFacts,
    ProcessSample,
    ProcessStat,
    Root,
    ThreadSample,
    parse_fdinfo,
    parse_process_stat,
    read_details,
    read_rollup,
)
from dunmist.sampling.busy_threads import BusyThreads
from dunmist.sampling.process_facts import FactsReader, program_files
from dunmist.sampling.tracked_process import (
    HELD,
    HELD_AT_REST,
    STAT_BYTES,
    TrackedProcess,
    open_stat,
    raise_descriptor_limit,
    used_clk,
)

# of the open files that are allowed: for processes, and for files of the machine. The rest is for
# the capture, netlink, surveys and children
PROCESSES_SHARE, MACHINE_SHARE = 0.5, 0.25
# a listing of descriptors takes as long as thirty readings of a line
DETAIL_ROUNDS = 10
# the line of an idle process changes only in priority and pages: it is read once in so many rounds
LINE_ROUNDS = 10
# in so many rounds the details of all that are there at the beginning are read
FIRST_DETAIL_ROUNDS = 5


@dataclass(slots=True)
class ProcessRound:
    """Result of one round over all processes."""

    appeared: list[tuple[int, ProcessFacts]] = field(default_factory=list)
    # processes that ran another program (execve(2))
    became: list[tuple[int, ProcessFacts]] = field(default_factory=list)
    samples: list[ProcessSample] = field(default_factory=list)
    threads: list[ThreadSample] = field(default_factory=list)
    details: list[ProcessDetail] = field(default_factory=list)
    graphics: list[GraphicsUse] = field(default_factory=list)
    ended: dict[int, int] = field(default_factory=dict)  # identity to PID
    groups: list[str] = field(default_factory=list)  # control groups that they are in
    used_clk: Counter[str] = field(default_factory=Counter)  # by PID, of those that ran
    moved_bytes: Counter[str] = field(default_factory=Counter)  # by PID, to and from storage
    alive: int = 0
    blocked: list[tuple[int, str]] = field(default_factory=list)  # in state D: identity and PID


class ProcessTable:
    """Follows every process of a computer by identity: number and start time together."""

    def __init__(self, root: Root, clock_ticks_per_s: int) -> None:
        self._root = root
        self._clock_ticks_per_s = clock_ticks_per_s
        self._facts = FactsReader(root)
        self._entries: dict[str, TrackedProcess] = {}
        self._next = 0
        self._rounds = 0
        self._elapsed_s = 0.0
        self._after_ms: Callable[[], int] = lambda: 0
        allowed = raise_descriptor_limit()
        root.held_most = int(MACHINE_SHARE * allowed)
        self._descriptors = int(PROCESSES_SHARE * allowed) if root.keeps_open else 0
        self._held = 0  # of them, those in use
        self._threads = BusyThreads(root, clock_ticks_per_s)
        self._stale: set[str] = set()  # those that ran since their details were read
        self._blocked: dict[str, int] = {}  # those in state D, with their identity
        self._own = str(os.getpid()) if root.is_this_computer else None
        self._undetailed: list[str] = []  # those of the first round, the busiest first
        self._each_round = 0
        self._cards: dict[str, list[str]] = {}  # their descriptors of graphics cards

    def sample(
        self,
        elapsed_s: float,
        after_ms: Callable[[], int] = lambda: 0,
        *,
        all_details: bool = False,
        pages_went: bool = True,
    ) -> ProcessRound:
        """Return the changes since the round before, ``elapsed_s`` ago (0 at the first).

        ``after_ms`` tells how long ago the tick began. With ``pages_went`` the kernel may have
        reclaimed pages of idle processes.
        """
        process_round = ProcessRound()
        self._elapsed_s += elapsed_s
        self._after_ms = after_ms
        # one listing is the only way: the kernel tells nobody who comes without taskstats rights
        present = [name for name in self._root.listing("proc") if name.isdigit()]
        if not self._rounds and self._root.is_this_computer and "1" not in present:
            self._root.note("processes of other people", "permission")  # mounted with hidepid
        busy: Counter[str] = Counter()
        entries, pread = self._entries, os.pread
        whole, turn = all_details or pages_went, self._rounds % LINE_ROUNDS
        for name in present:
            entry = entries.get(name)
            if entry is None:
                self._first_seen(name, process_round)
                continue
            # the line of an idle process is read in rotation: other tasks can change a little of it
            if not whole and entry.number % LINE_ROUNDS != turn and entry.has_rested():
                continue
            stat = entry.stat
            try:
                line = entry.line_again(self._root) if stat is None else pread(stat, STAT_BYTES, 0)
            except OSError:
                line = entry.line_again(self._root)  # which knows what that means
            # a process that did nothing has the line it had, so nothing else needs to be read
            if line == entry.line:
                continue
            if line:
                self._changed(name, entry, line, process_round, busy)
            else:
                self._forget(name, process_round)
                self._first_seen(name, process_round)
        for name in entries.keys() - set(present):
            self._forget(name, process_round)
        # a stuck process keeps its line
        process_round.blocked = [(number, name) for name, number in self._blocked.items()]
        process_round.alive = len(self._entries)
        self._threads.watch(busy, elapsed_s)
        process_round.threads = self._threads.read(
            lambda name: self._entries[name].number, after_ms
        )
        process_round.groups = [
            group
            for name, _ in busy.most_common(8)
            if (entry := self._entries.get(name)) and (group := entry.group)
        ]
        self._details_in_turn(process_round, all_details=all_details)
        self._rounds += 1
        return process_round

    def owners_wanted(self, process_round: ProcessRound) -> None:
        """Read the details of those that ran in this round: one of them has a new socket."""
        read = {detail.process for detail in process_round.details}
        ran = {sample.process for sample in process_round.samples} - read
        for name, entry in list(self._entries.items()):
            if entry.number in ran:
                self._detail(name, entry, process_round)

    def numbered(self) -> list[tuple[int, int]]:
        """Return identity and PID of every process of user space."""
        return [
            (entry.number, int(name)) for name, entry in self._entries.items() if not entry.kernel
        ]

    def number_of(self, pid: int, elapsed_least_s: float | None = None) -> int | None:
        """Return the identity that has a process number now.

        With ``elapsed_least_s`` only when the process was first seen no longer ago than that: one
        that ended after a shorter life had the number before.
        """
        entry = self._entries.get(str(pid))
        if entry is None:
            return None
        known_s = self._elapsed_s - entry.first_seen_s
        return entry.number if elapsed_least_s is None or elapsed_least_s >= known_s else None

    @property
    def own(self) -> int | None:
        """The identity of the sampler, None if it is not on the computer."""
        return self._entries[self._own].number if self._own in self._entries else None

    def busiest_threads(self, process_round: ProcessRound, processes: int) -> list[int]:
        """Return the threads of those that ran most in a round, the busiest process first."""
        busiest = process_round.used_clk.most_common(processes)
        return [tid for name, used in busiest if used for tid in self._threads.ran(name)]

    def used_now_clk(self, names: frozenset[str]) -> Counter[int]:
        """Return the CPU time so far of each process of these names."""
        used = Counter[int]()
        for entry in self._entries.values():
            if entry.called in names and (line := entry.line_again(self._root)):
                try:
                    used[entry.number] = used_clk(parse_process_stat(line))
                except ParseError:
                    self._root.note("processes", "garbled", entry.name)
        return used

    def largest(self, limit: int) -> list[MemoryRollup]:
        """Return the exact memory of the largest processes by resident set."""
        # the kernel walks every page table for this: ten are enough to know who holds memory
        largest = sorted(self._entries.items(), key=lambda item: -item[1].rss_pages)[:limit]
        rollups = (read_rollup(self._root, name, entry.number) for name, entry in largest)
        return [rollup for rollup in rollups if rollup]

    def groups(self) -> set[str]:
        """Return the control groups that processes are in."""
        return {entry.group for entry in self._entries.values() if entry.group}

    def unit_groups(self) -> set[str]:
        """Return the groups that processes belong to, those of CPU time aside."""
        return {entry.unit_group for entry in self._entries.values() if entry.unit_group}

    def program_files(self) -> list[str]:
        """Return the files of the living programs: executables and what interpreters run."""
        return sorted({file for entry in self._entries.values() for file in entry.files})

    def program_paths(self) -> set[str]:
        """Return the same without what the kernel adds to one that is gone."""
        return {file.removesuffix(DELETED) for file in self.program_files()}

    def busiest(self, limit: int) -> list[TrackedProcess]:
        """Return those that used the most CPU time while they were followed, the first one first.

        Of those that used none, those that have used the most since they started.
        """
        return nlargest(
            limit, self._entries.values(), key=lambda entry: (entry.used_here_clk, entry.used_clk)
        )

    def busiest_files(self, limit: int) -> set[str]:
        """Return the files of the busiest programs."""
        return {file for entry in self.busiest(limit) for file in entry.files}

    def working(self, limit: int, cores_least: float) -> list[tuple[int, int]]:
        """Return identity and PID of the busiest that used at least so much of a CPU."""
        least_clk = cores_least * self._elapsed_s * self._clock_ticks_per_s
        return [
            (entry.number, int(entry.name))
            for entry in self.busiest(limit)
            if entry.used_here_clk >= least_clk > 0
        ]

    def close(self) -> None:
        """Close every descriptor that the table holds."""
        for entry in self._entries.values():
            entry.close()
        self._entries.clear()

    def _first_seen(self, name: str, process_round: ProcessRound) -> None:
        opened = open_stat(self._root, name, hold=self._has_room(1))
        if opened is None:
            return
        after_ms = self._after_ms()
        descriptor, line, stat = opened
        facts = self._facts.read(name, stat)
        entry = TrackedProcess(
            name,
            number=self._next,
            stat=descriptor,
            line=line,
            called=stat.name,
            start_clk=stat.start_clk,
            used_clk=used_clk(stat),
            found_clk=0 if self._rounds else used_clk(stat),
            first_seen_s=self._elapsed_s,
            kernel=facts.kernel,
            group=facts.cpu_cgroup or facts.cgroup,
            unit_group=facts.cgroup,
            files=program_files(facts),
        )
        self._next += 1
        self._entries[name] = entry
        self._stale.add(name)
        self._note_state(entry, stat)
        process_round.appeared.append((entry.number, facts))
        hold = HELD_AT_REST if self._root.is_this_computer and self._has_room(2) else ()
        process_round.samples.append(entry.sample(self._root, stat, after_ms, hold))
        self._held += entry.held

    def _has_room(self, files: int) -> bool:
        return self._held + files <= self._descriptors

    def _changed(
        self,
        name: str,
        entry: TrackedProcess,
        line: bytes,
        process_round: ProcessRound,
        busy: Counter[str],
    ) -> None:
        after_ms = self._after_ms()
        try:
            stat = parse_process_stat(line)
        except ParseError:
            self._root.note("processes", "garbled", name)
            return
        if stat.start_clk != entry.start_clk:
            # a copied or modelled tree keeps the file when the number is used again
            self._forget(name, process_round)
            self._first_seen(name, process_round)
            return
        entry.line = line
        self._stale.add(name)
        used = used_clk(stat)
        # of one thread the line says all; a group may have a quota
        process_round.used_clk[name] = used - entry.used_clk
        if stat.threads > 1 or entry.group:
            busy[name] = used - entry.used_clk
        entry.used_clk = used
        # a kernel worker's name tells its task of the moment: no new program
        if stat.name != entry.called and not entry.kernel:
            entry.called = stat.name
            facts = self._facts.read(name, stat)
            entry.files = program_files(facts)
            process_round.became.append((entry.number, facts))
        # a process that changes once is likely to change again
        held = entry.held
        hold = HELD if self._has_room(len(HELD)) else ()
        sample = entry.sample(self._root, stat, after_ms, hold)
        self._held += entry.held - held
        process_round.samples.append(sample)
        self._note_state(entry, stat)
        moved = (sample.read_bytes or 0) + (sample.write_bytes or 0)
        if entry.moved_bytes is not None and moved > entry.moved_bytes:
            process_round.moved_bytes[name] = moved - entry.moved_bytes
        entry.moved_bytes = moved

    def _note_state(self, entry: TrackedProcess, stat: ProcessStat) -> None:
        if stat.state == "D" and not entry.kernel:
            self._blocked[entry.name] = entry.number
        elif self._blocked:
            self._blocked.pop(entry.name, None)

    def _forget(self, name: str, process_round: ProcessRound) -> None:
        entry = self._entries.pop(name)
        self._held -= entry.held
        entry.close()
        self._threads.forget(name)
        self._stale.discard(name)
        self._blocked.pop(name, None)
        self._cards.pop(name, None)
        process_round.ended[entry.number] = int(name)

    def _details_in_turn(self, process_round: ProcessRound, *, all_details: bool) -> None:
        turn = self._rounds % DETAIL_ROUNDS
        if not self._rounds:
            # the first round would take so long that the second one came late
            self._undetailed = sorted(self._entries, key=lambda name: -self._entries[name].used_clk)
            self._each_round = -(-len(self._undetailed) // FIRST_DETAIL_ROUNDS)
        first, self._undetailed = (
            self._undetailed[: self._each_round],
            self._undetailed[self._each_round :],
        )
        if all_details:
            first, self._undetailed = list(self._entries), []
            first = [name for name in first if self._may_differ(self._entries[name])]
        turned = (
            name for name in self._stale if self._entries[name].number % DETAIL_ROUNDS == turn
        )
        for name in dict.fromkeys((*first, *turned)):
            if name in self._entries:
                self._detail(name, self._entries[name], process_round)
        for name, descriptors in self._cards.items():
            for descriptor in descriptors:
                self._graphics_use(name, self._entries[name], descriptor, process_round)

    def _may_differ(self, entry: TrackedProcess) -> bool:
        """Whether a process may have done anything since its details were read."""
        if entry.name in self._stale or entry.detailed_ns is None:
            return True
        return entry.ran_ns(self._root) != entry.detailed_ns

    def _detail(self, name: str, entry: TrackedProcess, process_round: ProcessRound) -> None:
        self._stale.discard(name)
        # our own descriptors are those of all other processes
        if entry.kernel or "fd" in entry.hidden or name == self._own:
            return
        entry.detailed_ns = entry.ran_ns(self._root)
        detail, graphics = read_details(self._root, name, entry.number)
        if detail.descriptors is None:
            entry.hidden.add("fd")
        if graphics:
            self._cards[name] = graphics
        else:
            self._cards.pop(name, None)
        process_round.details.append(detail)

    def _graphics_use(
        self, name: str, entry: TrackedProcess, descriptor: str, process_round: ProcessRound
    ) -> None:
        use = self._root.parse(
            f"proc/{name}/fdinfo/{descriptor}",
            lambda data: parse_fdinfo(data, entry.number),
            "graphics use of processes",
            may_be_absent=True,
        )
        # descriptors that were duplicated or handed on are one client of the card
        if use and use.client not in {card.client for card in process_round.graphics}:
            process_round.graphics.append(use)
