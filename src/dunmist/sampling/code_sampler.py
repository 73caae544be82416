"""Sample the code of the busiest programs through the kernel, by process, thread and file.

Of each tick the processes with the most samples are kept. An address becomes a file and an offset
while the process lives; of the most frequent ones a child looks up the functions at the end. A
process that was never seen belongs to its nearest ancestor that was.
"""

import os
from collections import Counter, defaultdict
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import msgspec

from dunmist.computer import (
    CODE_SUBJECT,
    CodeEvents,
    CodePoint,
    DeadlinedProcesses,
    Mapping,
    NewMapping,
    NewName,
    NewProcess,
    Root,
    find_mapping,
    parse_mappings,
    parse_text,
    reason_of,
)
from dunmist.computer.code_events import FREQUENCY_HZ
from dunmist.computer.parsing import Counter as Count
from dunmist.computer.parsing import Identity

# the busiest processes: so many of each tick
WATCHED_PROCESSES = 8
# threads of one's own that are sampled, the busiest first: a ring is locked memory
FOLLOWED_THREADS = 64
# processes that were never seen, of which parents, names and mappings are remembered
UNSEEN_MOST, MAPPINGS_OF_UNSEEN = 1024, 64
# addresses that are remembered for their names, and asked for at the end
ADDRESSES_MOST, ASKED_MOST = 20_000, 4_000
# files of processes that are asked of, and how often each was found at work
FILES_MOST, SAMPLES_LEAST = 40, 5
# processes that used less than this are skipped
RAN_LEAST_CORES = 0.03
# of the samples of all who are asked about: so few have no name rather than a second question
UNNAMED_SHARE = 0.2
ANCESTORS_MOST = 64
# the blind spot of what the child does not answer
FUNCTIONS = "names of functions"
# half a second of CPU time takes this long where ten programs want the same CPU
NAMES_DEADLINE_S = 5.0
KERNEL, GENERATED, UNKNOWN = "[kernel]", "[generated]", "[unknown]"
# memory that is code and has no file that could be read: a program made it while it ran
NO_FILE = ("//anon", "/memfd:", "/dev/zero", "/anon_hugepage", "[heap]", "[stack]", "[anon")
# a path, with device and inode where they are known
_File = tuple[str, tuple[int, int, int] | None]
# a file is looked for at so many of those that mapped it, as the first may have ended
PROCESSES_ASKED = 4
SYMBOLS = str(Path(__file__).parent.parent / "computer" / "symbols.py")


class CodeSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Samples of one tick that found a program in the same file's code."""

    process: Identity
    program: str | None  # short-lived child that ran it, None for the process itself
    thread: str | None  # name of the thread, None of a short-lived child
    mapping: str  # path, or [kernel], [generated], [vdso], [unknown]
    samples: Count


class FunctionSamples(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Samples of the whole capture that found a process in one function."""

    process: Identity
    mapping: str
    function: str | None  # None if no symbol is known
    samples: Count


class _Question(NamedTuple):
    """Addresses in files that a child looks up."""

    child: DeadlinedProcesses
    asked: list[tuple[_File, list[int]]]

    def names(self) -> dict[tuple[_File, int], str | None]:
        """Return the functions of those that were looked up in time."""
        names: dict[tuple[_File, int], str | None] = {}
        answered = self.child.answers(partial=True)[""] or b""
        for (file, addresses), line in zip(self.asked, answered.splitlines(), strict=False):
            try:
                found_names = msgspec.json.decode(line, type=list[str | None])
            except msgspec.DecodeError:
                break  # its time was over while it wrote
            names |= {(file, at): name for at, name in zip(addresses, found_names, strict=False)}
        return names


class CodeSampler:
    """Turns what the kernel samples into counts, tick by tick."""

    def __init__(self, root: Root, events: CodeEvents) -> None:
        self._root, self._events = root, events
        self._maps: dict[int, list[Mapping]] = {}
        self._fresh: set[int] = set()  # those whose mappings were read in this tick
        self._read: set[int] = set()  # those whose mappings are from themselves
        self._threads: dict[int, str] = {}
        self._parents: dict[int, int] = {}
        self._names: dict[int, str] = {}
        self._addresses: Counter[tuple[int, str, int]] = Counter()
        # by whose mapping the file can be opened
        self._mapped: dict[tuple[int, str], tuple[int, Mapping]] = {}
        self._questions: list[_Question] = []

    def gather(self) -> None:
        """Read what has arrived between two ticks."""
        self._events.gather()

    def read(self, number_of: Callable[[int], int | None]) -> list[CodeSample]:
        """Return the samples since the last call; ``number_of`` gives identities."""
        points: defaultdict[int, list[CodePoint]] = defaultdict(list)
        self._fresh = set()
        for record in self._events.drain():
            if isinstance(record, CodePoint):
                if record.pid and (owner := self._owner(record.pid, number_of)) is not None:
                    points[owner].append(record)
            else:
                self._learn(record)
        counts: Counter[tuple[int, str | None, str | None, str]] = Counter()
        for owner in sorted(points, key=lambda owner: -len(points[owner]))[:WATCHED_PROCESSES]:
            for point in points[owner]:
                program = thread = None
                if number_of(point.pid) is None:
                    program = self._names.get(point.pid, UNKNOWN)
                else:
                    thread = self._thread(point)
                counts[owner, program, thread, self._location(owner, point)] += 1
        self._shrink()
        return [CodeSample(*key, samples) for key, samples in counts.items()]

    def follow(self, tids: list[int]) -> None:
        """Sample these threads from now on, where not all are sampled."""
        self._events.follow(tids[:FOLLOWED_THREADS])

    @property
    def follows(self) -> bool:
        """Whether it needs a list of threads to sample."""
        return not self._events.is_whole

    def ask_functions(self, own: int | None, span_s: float) -> None:
        """Have a child look up the functions of the most frequent addresses.

        The sampler, ``own``, and processes that hardly ran in the ``span_s`` so far are left out. A
        further call asks for later addresses if they are more than a small part.
        """
        ran: Counter[int] = Counter()
        for (process, _, _), count in self._addresses.items():
            ran[process] += count
        least = max(SAMPLES_LEAST, RAN_LEAST_CORES * span_s * FREQUENCY_HZ)
        wanted = {process for process in ran if process != own and ran[process] >= least}
        samples: Counter[_File] = Counter()
        addresses: defaultdict[_File, dict[int, None]] = defaultdict(dict)
        known = {
            (file, at) for question in self._questions for file, ats in question.asked for at in ats
        }
        for (process, path, address), count in self._addresses.most_common(ASKED_MOST):
            file = self._file(process, path)
            if process in wanted and (file, address) not in known:
                samples[file] += count
                addresses[file][address] = None
        if samples.total() <= UNNAMED_SHARE * sum(ran[process] for process in wanted):
            return
        asked = [
            (file, list(addresses[file]))
            for file, count in samples.most_common(FILES_MOST)
            if count >= SAMPLES_LEAST
        ]
        if not asked:
            return
        question = {
            "kallsyms": self._root.full("proc/kallsyms"),
            "parts": [
                {"paths": self._paths(file), "inode": self._inode(file), "at": at}
                for file, at in asked
            ],
        }
        try:
            # in memory: nothing is written to the patient's disk
            with os.fdopen(os.memfd_create("question"), "r+b") as content:
                content.write(msgspec.json.encode(question))
                content.seek(0)
                child = DeadlinedProcesses(
                    {"": (SYMBOLS,)},
                    isolated=False,
                    given=content.fileno(),
                    deadline_s=NAMES_DEADLINE_S,
                )
            self._questions.append(_Question(child, asked))
        except OSError as error:
            self._root.note(FUNCTIONS, reason_of(error))

    def functions(self) -> list[FunctionSamples]:
        """Return the functions that were asked for, with their samples."""
        names: dict[tuple[_File, int], str | None] = {}
        for question in self._questions:
            answered = question.names()
            names |= answered
            if len(answered) < sum(len(addresses) for _, addresses in question.asked):
                self._root.note(FUNCTIONS, "failed")
        self._questions = []
        counts: Counter[tuple[int, str, str | None]] = Counter()
        for (process, path, address), count in self._addresses.items():
            counts[process, path, names.get((self._file(process, path), address))] += count
        return [FunctionSamples(*key, samples) for key, samples in counts.items()]

    def close(self) -> None:
        """Stop sampling, and note what was lost."""
        for question in self._questions:
            question.child.leave()
        if self._events.lost:
            self._root.note(CODE_SUBJECT, "overflow")
        if self._events.garbled:
            self._root.note(CODE_SUBJECT, "garbled")
        self._events.close()

    def _learn(self, record: NewMapping | NewProcess | NewName) -> None:
        if isinstance(record, NewName):
            self._threads.pop(record.tid, None)
            if record.pid == record.tid:
                self._names[record.pid] = record.name
                # it may be another program, which has other code
                self._maps.pop(record.pid, None)
                self._read.discard(record.pid)
        elif isinstance(record, NewProcess):
            if record.pid != record.parent_pid:
                # an earlier process may have had the number
                self._maps.pop(record.pid, None)
                self._names.pop(record.pid, None)
                self._read.discard(record.pid)
                self._parents[record.pid] = record.parent_pid
                if name := self._names.get(record.parent_pid):
                    self._names[record.pid] = name
                if known := self._maps.get(record.parent_pid):
                    self._maps[record.pid] = known
        elif record.pid not in self._read:
            known = self._maps.get(record.pid, [])
            if len(known) < MAPPINGS_OF_UNSEEN:
                mapping = Mapping(*record[1:])
                self._maps[record.pid] = sorted([*known, mapping])

    def _owner(self, pid: int, number_of: Callable[[int], int | None]) -> int | None:
        for _ in range(ANCESTORS_MOST):
            number = number_of(pid)
            if number is not None or pid not in self._parents:
                return number
            pid = self._parents[pid]
        return None

    def _thread(self, point: CodePoint) -> str:
        if point.tid not in self._threads:
            name = self._root.parse(
                f"proc/{point.pid}/task/{point.tid}/comm",
                parse_text,
                CODE_SUBJECT,
                may_be_absent=True,
            )
            self._threads[point.tid] = name or UNKNOWN
        return self._threads[point.tid]

    def _location(self, owner: int, point: CodePoint) -> str:
        """Return in whose code a sample lies, and remember the address for its name."""
        if point.is_kernel:
            self._count(owner, KERNEL, point.address)
            return KERNEL
        mapping = self._mapping(point)
        if mapping is None:
            return UNKNOWN
        if not mapping.path or mapping.path.startswith(NO_FILE):
            return GENERATED
        if not mapping.path.startswith("["):
            self._count(owner, mapping.path, point.address - mapping.start + mapping.offset)
            self._mapped.setdefault((owner, mapping.path), (point.pid, mapping))
        return mapping.path

    def _mapping(self, point: CodePoint) -> Mapping | None:
        found = find_mapping(self._maps.get(point.pid, []), point.address)
        if found is None and self._read_maps(point.pid):
            found = find_mapping(self._maps[point.pid], point.address)
        parent = self._parents.get(point.pid)
        if found is None and point.pid not in self._maps and parent is not None:
            # it ended, and ran what its parent runs
            self._read_maps(parent)
            found = find_mapping(self._maps.get(parent, []), point.address)
        return found

    def _read_maps(self, pid: int) -> bool:
        """Read the mappings of a process, at most once a tick; whether there is something new."""
        if pid in self._fresh:
            return False
        self._fresh.add(pid)
        try:
            mappings = parse_mappings(self._root.read(f"proc/{pid}/maps"))
        except (FileNotFoundError, ProcessLookupError):
            return False
        except OSError:
            self._root.note(CODE_SUBJECT, "permission", str(pid))
            return False
        if mappings:  # an exited process that was not waited for has none
            self._maps[pid] = mappings
            self._read.add(pid)
        return bool(mappings)

    def _count(self, owner: int, mapping: str, address: int) -> None:
        key = (owner, mapping, address)
        if key in self._addresses or len(self._addresses) < ADDRESSES_MOST:
            self._addresses[key] += 1

    def _file(self, process: int, path: str) -> _File:
        mapped = self._mapped.get((process, path))
        return path, mapped[1].file if mapped else None

    def _inode(self, file: _File) -> int:
        """Return the identity of a file among others of its path; 0 if unknown."""
        return file[1][2] if file[1] and self._root.is_this_computer else 0

    def _paths(self, file: _File) -> list[str] | None:
        """Return where a file may be opened: by a mapping, as its process sees it, as we do."""
        if file[0] == KERNEL:
            return None
        own = self._root.full(file[0].lstrip("/"))
        if not self._root.is_this_computer:
            # a copy may hold links that lead out of it
            inside = os.path.realpath(own).startswith(f"{os.path.realpath(self._root.path)}/")
            return [own] if inside else []
        paths: list[str] = []
        for (_, path), (pid, mapped) in self._mapped.items():
            if (path, mapped.file) == file and len(paths) < 2 * PROCESSES_ASKED:
                paths.append(f"/proc/{pid}/map_files/{mapped.start:x}-{mapped.end:x}")
                paths.append(f"/proc/{pid}/root{path}")
        return [*paths, own]

    def _shrink(self) -> None:
        """Forget who started first among those that were never seen."""
        known: dict[int, object]
        for known in (self._parents, self._names, self._maps, self._threads):  # type: ignore[assignment]
            for pid in list(known)[: max(0, len(known) - UNSEEN_MOST)]:
                del known[pid]
        self._read &= self._maps.keys()
