"""All processes, round after round: who is there, who is new, who went, what changed.

Handed a root, it gives one ``Round`` a call. Each ``/proc/PID/stat`` stays open and is read again
from its start, which costs less than opening it and cannot hit another process: a descriptor of a
process that ended answers ESRCH, even when its number was given away again (proc(5)). A line equal
to that of the round before is not parsed, and nothing else of that process is read.
"""

import os
import resource
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field

from dunmist.computer.parsing import ParseError
from dunmist.computer.processes import (
    PF_KTHREAD,
    ProcessFacts,
    ProcessSample,
    ProcessStat,
    ThreadSample,
    parse_cgroup,
    parse_cmdline,
    parse_schedstat,
    parse_stat,
    parse_statm,
    parse_uid,
)
from dunmist.computer.root import Parsed, Root, reason_of
from dunmist.computer.users import UserNames

STAT_BYTES = 4096
DESCRIPTORS_WANTED = 65_536
DESCRIPTORS_SPARED = 64
# threads are read one by one only for processes of several threads that used this much of a
# round, and of the busiest few only: one read a thread and round
WATCHED_PROCESSES = 8
WATCHED_THREADS = 64
WATCHED_SHARE = 0.10


@dataclass(slots=True)
class Round:
    """What one look at all processes found. Numbers are those the table gave the identities."""

    appeared: list[tuple[int, ProcessFacts]] = field(default_factory=list)
    became: list[tuple[int, ProcessFacts]] = field(default_factory=list)
    samples: list[ProcessSample] = field(default_factory=list)
    threads: list[ThreadSample] = field(default_factory=list)
    ended: list[int] = field(default_factory=list)
    alive: int = 0


@dataclass(slots=True)
class _Entry:
    number: int
    stat: int | None  # descriptor
    line: bytes
    name: str
    start_clk: int
    used_clk: int
    threads: int
    more: dict[str, int] = field(default_factory=dict)  # descriptors of statm and schedstat

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
        self._users = UserNames(root)
        self._clk_per_s = clock_ticks_per_s
        self._entries: dict[str, _Entry] = {}
        self._next = 0
        self._descriptors = raise_descriptor_limit() - DESCRIPTORS_SPARED
        self._watched: dict[str, dict[str, bytes]] = {}

    def look(self, elapsed_s: float) -> Round:
        """Return what changed since the round before, ``elapsed_s`` ago (0 at the first)."""
        found = Round()
        present = [name for name in os.listdir(self._root.full("proc")) if name.isdigit()]
        busy: Counter[str] = Counter()
        for name in present:
            entry = self._entries.get(name)
            line = self._line_again(entry) if entry else b""
            if entry and line:
                if line != entry.line:
                    self._changed(name, entry, line, found, busy)
            else:
                if entry:
                    self._forget(name, found)
                self._first_seen(name, found)
        for name in self._entries.keys() - set(present):
            self._forget(name, found)
        found.alive = len(self._entries)
        self._watch(busy, elapsed_s)
        self._read_threads(found)
        return found

    def close(self) -> None:
        """Close every descriptor that the table holds."""
        for entry in self._entries.values():
            entry.close()
        self._entries.clear()

    def _line_again(self, entry: _Entry) -> bytes:
        if entry.stat is None:
            return b""
        try:
            return os.pread(entry.stat, STAT_BYTES, 0)
        except OSError:
            return b""

    def _first_seen(self, name: str, found: Round) -> None:
        opened = self._open_stat(name)
        if opened is None:
            return
        descriptor, line, stat = opened
        entry = _Entry(
            self._next, descriptor, line, stat.name, stat.start_clk, _used(stat), stat.threads
        )
        self._next += 1
        self._entries[name] = entry
        found.appeared.append((entry.number, self._facts(name, stat)))
        self._sample(name, entry, stat, found, hold=False)

    def _open_stat(self, name: str) -> tuple[int, bytes, ProcessStat] | None:
        descriptor = None
        try:
            descriptor = os.open(self._root.full(f"proc/{name}/stat"), os.O_RDONLY | os.O_CLOEXEC)
            line = os.pread(descriptor, STAT_BYTES, 0)
            return descriptor, line, parse_stat(line)
        except (FileNotFoundError, ProcessLookupError):
            pass  # ended between the listing and the reading
        except OSError as error:
            self._root.note("processes", reason_of(error))
        except ParseError:
            self._root.note("processes", "garbled")
        if descriptor is not None:
            os.close(descriptor)
        return None

    def _changed(
        self, name: str, entry: _Entry, line: bytes, found: Round, busy: Counter[str]
    ) -> None:
        try:
            stat = parse_stat(line)
        except ParseError:
            self._root.note("processes", "garbled")
            return
        if stat.start_clk != entry.start_clk:
            # a copied or modelled tree keeps the file when the number is used again
            self._forget(name, found)
            self._first_seen(name, found)
            return
        entry.line = line
        used = _used(stat)
        if stat.threads > 1:
            busy[name] = used - entry.used_clk
        entry.used_clk = used
        # a kernel worker's name tells its task of the moment: no new program
        if stat.name != entry.name and not stat.flags & PF_KTHREAD:
            entry.name = stat.name
            found.became.append((entry.number, self._facts(name, stat)))
        # a process that changes once is likely to change again
        self._sample(name, entry, stat, found, hold=self._may_hold())

    def _may_hold(self) -> bool:
        return 3 * len(self._entries) < self._descriptors

    def _forget(self, name: str, found: Round) -> None:
        entry = self._entries.pop(name)
        entry.close()
        self._watched.pop(name, None)
        found.ended.append(entry.number)

    def _sample(
        self, name: str, entry: _Entry, stat: ProcessStat, found: Round, *, hold: bool
    ) -> None:
        statm = None if stat.flags & PF_KTHREAD else self._more(name, entry, "statm", hold)
        schedstat = self._more(name, entry, "schedstat", hold)
        shared = run_ns = delay_ns = None
        try:
            shared = parse_statm(statm).shared if statm else None
            run_ns, delay_ns = parse_schedstat(schedstat) if schedstat else (None, None)
        except ParseError:
            self._root.note("processes", "garbled")
        found.samples.append(
            ProcessSample(
                entry.number,
                stat.state,
                stat.user_clk,
                stat.system_clk,
                stat.children_user_clk,
                stat.children_system_clk,
                stat.minor_faults,
                stat.major_faults,
                stat.io_delay_clk,
                stat.nice,
                stat.threads,
                stat.processor,
                stat.rss_pages,
                shared,
                run_ns,
                delay_ns,
            )
        )

    def _more(self, name: str, entry: _Entry, file: str, hold: bool) -> bytes | None:
        descriptor = entry.more.get(file)
        try:
            if descriptor is not None:
                return os.pread(descriptor, STAT_BYTES, 0)
            if not hold:
                return self._root.read(f"proc/{name}/{file}")
            path = self._root.full(f"proc/{name}/{file}")
            descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
            entry.more[file] = descriptor
            return os.pread(descriptor, STAT_BYTES, 0)
        except (FileNotFoundError, ProcessLookupError):
            if file == "schedstat":
                self._note_missing_schedstat(name)
            return None
        except OSError as error:
            self._root.note(file, reason_of(error))
            return None

    def _note_missing_schedstat(self, name: str) -> None:
        # absent beside a process that is still there: the kernel does not publish it
        if os.path.exists(self._root.full(f"proc/{name}/stat")):  # noqa: PTH110 - dear path
            self._root.note("run-queue delay", "absent")

    def _facts(self, name: str, stat: ProcessStat) -> ProcessFacts:
        directory = f"proc/{name}"
        uid = self._part(f"{directory}/status", parse_uid, "owner of processes")
        kernel = bool(stat.flags & PF_KTHREAD)
        command_line = self._part(f"{directory}/cmdline", parse_cmdline, "command lines")
        return ProcessFacts(
            pid=stat.pid,
            start_clk=stat.start_clk,
            ppid=stat.ppid,
            session=stat.session,
            name=stat.name,
            kernel=kernel,
            uid=uid,
            user=self._users.name(uid) if uid is not None else None,
            command_line=command_line or [],
            executable=None if kernel else self._executable(directory),
            cgroup=self._part(f"{directory}/cgroup", parse_cgroup, "control groups"),
        )

    def _part(self, name: str, parser: Callable[[bytes], Parsed], subject: str) -> Parsed | None:
        return self._root.parse(name, parser, subject, may_be_absent=True)

    def _executable(self, directory: str) -> str | None:
        try:
            return self._root.link(f"{directory}/exe")
        except PermissionError:
            self._root.note("executables of processes", "permission")
            return None

    def _watch(self, busy: Counter[str], elapsed_s: float) -> None:
        least = WATCHED_SHARE * elapsed_s * self._clk_per_s
        chosen = [name for name, used in busy.most_common(WATCHED_PROCESSES) if used >= least > 0]
        for name in chosen:
            self._watched.setdefault(name, {})
        for name in [name for name in self._watched if name not in chosen]:
            if len(self._watched) > WATCHED_PROCESSES:
                del self._watched[name]

    def _read_threads(self, found: Round) -> None:
        for name, before in self._watched.items():
            entry = self._entries[name]
            tids = self._root.names(f"proc/{name}/task")[:WATCHED_THREADS]
            for tid in tids:
                try:
                    data = self._root.read(f"proc/{name}/task/{tid}/schedstat")
                    if data == before.get(tid):
                        continue
                    before[tid] = data
                    run_ns, delay_ns = parse_schedstat(data)
                    found.threads.append(ThreadSample(entry.number, int(tid), run_ns, delay_ns))
                except (FileNotFoundError, ProcessLookupError):
                    continue
                except (OSError, ParseError):
                    self._root.note("threads", "failed")


def _used(stat: ProcessStat) -> int:
    return stat.user_clk + stat.system_clk
