"""All processes, round after round: who is there, who is new, who went, what changed.

Handed a root, it gives one ``ProcessRound`` a tick. Each ``/proc/PID/stat`` stays open and is read
again from its start, which costs less than opening it and cannot hit another process: a descriptor
of a process that ended answers ESRCH, even when its number was given away again (proc(5)). A line
equal to that of the round before is not parsed, and nothing else of that process is read. What is
dear is read in turns: of each process that changed, once in ``DETAIL_ROUNDS`` rounds.
"""

import errno
import os
import resource
from collections import Counter
from dataclasses import dataclass, field

from dunmist.computer import (
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
    parse_io,
    parse_process_stat,
    parse_schedstat,
    parse_statm,
    parse_waits_in,
    read_details,
    read_rollup,
    reason_of,
)
from dunmist.sampling.busy_threads import BusyThreads
from dunmist.sampling.process_facts import FactsReader, program_files

# a line has some 350 bytes; the kernel gives at most a page at once
STAT_BYTES = 4096
# more processes than this are read by opening, which is slower and no less right
DESCRIPTORS_WANTED = 65_536
# for the capture, netlink, the files of the machine and of surveys
DESCRIPTORS_SPARED = 128
HELD_FILES = 4  # stat, and statm, schedstat and io of a process that changes
# a listing of descriptors takes as long as thirty readings of a line
DETAIL_ROUNDS = 10
SUBJECTS = {"statm": "memory of processes", "schedstat": "run-queue delay",
            "io": "bytes read and written by processes"}  # fmt: skip


@dataclass(slots=True)
class ProcessRound:
    """What one look at all processes found. Numbers are those the table gave the identities.

    ``ended`` maps the numbers of those that went to their process numbers.
    """

    appeared: list[tuple[int, ProcessFacts]] = field(default_factory=list)
    became: list[tuple[int, ProcessFacts]] = field(default_factory=list)
    samples: list[ProcessSample] = field(default_factory=list)
    threads: list[ThreadSample] = field(default_factory=list)
    details: list[ProcessDetail] = field(default_factory=list)
    graphics: list[GraphicsUse] = field(default_factory=list)
    ended: dict[int, int] = field(default_factory=dict)
    groups: list[str] = field(default_factory=list)
    alive: int = 0


@dataclass(slots=True)
class _Followed:
    number: int
    stat: int | None  # descriptor
    line: bytes
    name: str
    start_clk: int
    used_clk: int
    first_seen_s: float
    rss_pages: int = 0
    kernel: bool = False
    group: str | None = None
    files: tuple[str, ...] = ()
    more: dict[str, int] = field(default_factory=dict)  # descriptors of statm, schedstat, io
    hidden: set[str] = field(default_factory=set)  # files that may not be read

    def close(self) -> None:
        for descriptor in (self.stat, *self.more.values()):
            if descriptor is not None:
                os.close(descriptor)
        self.stat = None
        self.more.clear()


def raise_descriptor_limit() -> int:
    """Raise this program's own limit of open files as far as allowed and return it."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = DESCRIPTORS_WANTED if hard == resource.RLIM_INFINITY else min(hard, DESCRIPTORS_WANTED)
    if soft != resource.RLIM_INFINITY and soft < wanted:
        resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))
        return wanted
    return DESCRIPTORS_WANTED if soft == resource.RLIM_INFINITY else soft


class ProcessTable:
    """Follows every process of a computer by identity: number and start time together."""

    def __init__(self, root: Root, clock_ticks_per_s: int) -> None:
        self._root = root
        self._facts = FactsReader(root)
        self._entries: dict[str, _Followed] = {}
        self._next = 0
        self._rounds = 0
        self._elapsed_s = 0.0
        self._descriptors = raise_descriptor_limit() - DESCRIPTORS_SPARED
        self._held = 0  # of them, those of the lines of processes
        self._threads = BusyThreads(root, clock_ticks_per_s)
        self._stale: set[str] = set()  # those that ran since their details were read
        self._cards: dict[str, list[str]] = {}  # their descriptors of graphics cards

    def look(self, elapsed_s: float, *, all_details: bool = False) -> ProcessRound:
        """Return what changed since the round before, ``elapsed_s`` ago (0 at the first)."""
        found = ProcessRound()
        self._elapsed_s += elapsed_s
        # one listing is the only way: the kernel tells nobody who comes without taskstats rights
        present = [name for name in os.listdir(self._root.full("proc")) if name.isdigit()]
        if not self._rounds and self._root.is_this_computer and "1" not in present:
            self._root.note("processes of other people", "permission")  # mounted with hidepid
        busy: Counter[str] = Counter()
        for name in present:
            entry = self._entries.get(name)
            if entry is None:
                self._first_seen(name, found)
                continue
            line = self._line_again(name, entry)
            if not line:
                self._forget(name, found)
                self._first_seen(name, found)
            # a process that did nothing has the line it had, so nothing else needs to be read
            elif line != entry.line:
                self._changed(name, entry, line, found, busy)
        for name in self._entries.keys() - set(present):
            self._forget(name, found)
        found.alive = len(self._entries)
        self._threads.watch(busy, elapsed_s)
        found.threads = self._threads.read(lambda name: self._entries[name].number)
        found.groups = [
            group
            for name, _ in busy.most_common(8)
            if (entry := self._entries.get(name)) and (group := entry.group)
        ]
        self._details_in_turn(found, all_details=all_details)
        self._rounds += 1
        return found

    def owners_wanted(self, found: ProcessRound) -> None:
        """Read the details of those that ran in this round: one of them has a new socket."""
        read = {detail.process for detail in found.details}
        ran = {sample.process for sample in found.samples} - read
        for name, entry in list(self._entries.items()):
            if entry.number in ran:
                self._detail(name, entry, found)

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

    def largest(self, limit: int) -> list[MemoryRollup]:
        """Return the exact memory of the largest processes by resident set."""
        # the kernel walks every page table for this: ten are enough to know who holds memory
        largest = sorted(self._entries.items(), key=lambda item: -item[1].rss_pages)[:limit]
        rollups = (read_rollup(self._root, name, entry.number) for name, entry in largest)
        return [rollup for rollup in rollups if rollup]

    def program_files(self) -> list[str]:
        """Return the files of the living programs: executables and what interpreters run."""
        return sorted({file for entry in self._entries.values() for file in entry.files})

    def close(self) -> None:
        """Close every descriptor that the table holds."""
        for entry in self._entries.values():
            entry.close()
        self._entries.clear()

    def _line_again(self, name: str, entry: _Followed) -> bytes:
        """Return the line of now, an empty one when the process has ended."""
        try:
            if entry.stat is None:
                # the start time in the line tells whether it is still the same one
                return self._root.read_start(f"proc/{name}/stat", STAT_BYTES)
            return os.pread(entry.stat, STAT_BYTES, 0)
        except OSError as error:
            if error.errno in (errno.ESRCH, errno.ENOENT):
                return b""
            # it is there and cannot be read just now: one that came back would be somebody new
            self._root.note("processes", reason_of(error), name)
            return entry.line

    def _first_seen(self, name: str, found: ProcessRound) -> None:
        opened = self._open_stat(name)
        if opened is None:
            return
        descriptor, line, stat = opened
        facts = self._facts.read(name, stat)
        entry = _Followed(
            number=self._next,
            stat=descriptor,
            line=line,
            name=stat.name,
            start_clk=stat.start_clk,
            used_clk=_used(stat),
            first_seen_s=self._elapsed_s,
            kernel=facts.kernel,
            group=facts.cpu_cgroup or facts.cgroup,
            files=program_files(facts),
        )
        self._held += descriptor is not None
        self._next += 1
        self._entries[name] = entry
        self._stale.add(name)
        found.appeared.append((entry.number, facts))
        self._sample(name, entry, stat, found, hold=False)

    def _open_stat(self, name: str) -> tuple[int | None, bytes, ProcessStat] | None:
        """Return the open file while there is room for it, its line and what that says."""
        descriptor = None
        try:
            descriptor = self._root.open(f"proc/{name}/stat")
            line = os.pread(descriptor, STAT_BYTES, 0)
            stat = parse_process_stat(line)
            if self._held < self._descriptors:
                kept, descriptor = descriptor, None
                return kept, line, stat
            return None, line, stat
        except (FileNotFoundError, ProcessLookupError):
            pass  # ended between the listing and the reading
        except OSError as error:
            self._root.note("processes", reason_of(error), name)
        except ParseError:
            self._root.note("processes", "garbled", name)
        finally:
            if descriptor is not None:
                os.close(descriptor)
        return None

    def _changed(
        self, name: str, entry: _Followed, line: bytes, found: ProcessRound, busy: Counter[str]
    ) -> None:
        try:
            stat = parse_process_stat(line)
        except ParseError:
            self._root.note("processes", "garbled", name)
            return
        if stat.start_clk != entry.start_clk:
            # a copied or modelled tree keeps the file when the number is used again
            self._forget(name, found)
            self._first_seen(name, found)
            return
        entry.line = line
        self._stale.add(name)
        used = _used(stat)
        # of one thread the line says all; a group may have a quota
        if stat.threads > 1 or entry.group:
            busy[name] = used - entry.used_clk
        entry.used_clk = used
        # a kernel worker's name tells its task of the moment: no new program
        if stat.name != entry.name and not entry.kernel:
            entry.name = stat.name
            facts = self._facts.read(name, stat)
            entry.files = program_files(facts)
            found.became.append((entry.number, facts))
        # a process that changes once is likely to change again
        self._sample(name, entry, stat, found, hold=self._may_hold())

    def _may_hold(self) -> bool:
        return HELD_FILES * len(self._entries) < self._descriptors

    def _forget(self, name: str, found: ProcessRound) -> None:
        entry = self._entries.pop(name)
        self._held -= entry.stat is not None
        entry.close()
        self._threads.forget(name)
        self._stale.discard(name)
        self._cards.pop(name, None)
        found.ended[entry.number] = int(name)

    def _sample(
        self, name: str, entry: _Followed, stat: ProcessStat, found: ProcessRound, *, hold: bool
    ) -> None:
        entry.rss_pages = stat.rss_pages
        shared = run_ns = delay_ns = read_bytes = write_bytes = None
        try:
            # kernel tasks have neither pages of their own nor files
            if not entry.kernel:
                if data := self._more(name, entry, "statm", hold):
                    shared = parse_statm(data).shared
                if data := self._more(name, entry, "io", hold):
                    read_bytes, write_bytes = parse_io(data)
            if data := self._more(name, entry, "schedstat", hold):
                run_ns, delay_ns = parse_schedstat(data)
        except ParseError:
            self._root.note("processes", "garbled", name)
        found.samples.append(
            ProcessSample(
                entry.number, stat.state, stat.user_clk, stat.system_clk, stat.children_user_clk,
                stat.children_system_clk, stat.minor_faults, stat.major_faults, stat.io_delay_clk,
                stat.nice, stat.threads, stat.processor, stat.rss_pages, shared, run_ns, delay_ns,
                read_bytes, write_bytes,
                self._waits_in(name) if stat.state == "D" else None,
            )
        )  # fmt: skip

    def _more(self, name: str, entry: _Followed, file: str, hold: bool) -> bytes | None:
        if file in entry.hidden:
            return None
        descriptor = entry.more.get(file)
        try:
            if descriptor is not None:
                return os.pread(descriptor, STAT_BYTES, 0)
            if not hold:
                return self._root.read(f"proc/{name}/{file}")
            descriptor = self._root.open(f"proc/{name}/{file}")
            entry.more[file] = descriptor
            return os.pread(descriptor, STAT_BYTES, 0)
        except OSError as error:
            reason = reason_of(error)
            # absent beside a process that is still there: the kernel does not publish it
            if reason != "absent" or self._root.exists(f"proc/{name}/stat"):
                entry.hidden.add(file)
                self._root.note(SUBJECTS[file], reason, name)
            return None

    def _waits_in(self, name: str) -> str | None:
        return self._root.parse(
            f"proc/{name}/wchan", parse_waits_in, "what processes wait in", may_be_absent=True
        )

    def _details_in_turn(self, found: ProcessRound, *, all_details: bool) -> None:
        turn = self._rounds % DETAIL_ROUNDS
        everything = all_details or not self._rounds
        for name in list(self._entries if everything else self._stale):
            entry = self._entries[name]
            if everything or entry.number % DETAIL_ROUNDS == turn:
                self._detail(name, entry, found)
        for name, descriptors in self._cards.items():
            for descriptor in descriptors:
                self._graphics_use(name, self._entries[name], descriptor, found)

    def _detail(self, name: str, entry: _Followed, found: ProcessRound) -> None:
        self._stale.discard(name)
        if entry.kernel or "fd" in entry.hidden:
            return
        detail, graphics = read_details(self._root, name, entry.number)
        if detail.descriptors is None:
            entry.hidden.add("fd")
        if graphics:
            self._cards[name] = graphics
        else:
            self._cards.pop(name, None)
        found.details.append(detail)

    def _graphics_use(
        self, name: str, entry: _Followed, descriptor: str, found: ProcessRound
    ) -> None:
        use = self._root.parse(
            f"proc/{name}/fdinfo/{descriptor}",
            lambda data: parse_fdinfo(data, entry.number),
            "graphics use of processes",
            may_be_absent=True,
        )
        # descriptors that were duplicated or handed on are one client of the card
        if use and use.client not in {card.client for card in found.graphics}:
            found.graphics.append(use)


def _used(stat: ProcessStat) -> int:
    return stat.user_clk + stat.system_clk
