"""Parse the collector's output into frames.

Each line has the name of its file in front. A line that begins with ``@`` and the mark of this run
is the collector's own. So no name or content on the remote computer can pass for another line.
Everything before the first line of the run, such as a shell's greeting, is skipped.
"""

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from dunmist.remote.remote_paths import file_line

MAGIC = re.compile(rb"@([0-9a-f]{8,64}) begin 1 ")
_COMMAND = re.compile(rb"cmd:/proc/(\d{1,7})/cmdline:(.*)", re.S)
_PROGRAM = re.compile(rb"exe:.*? /proc/(\d{1,7})/exe -> (/.*)", re.S)
_DESCRIPTORS = re.compile(rb"fd:/proc/(\d{1,7})/fd:?")
_DESCRIPTOR = re.compile(rb"fd:.*? (\d{1,7}) -> (.*)", re.S)
_DIRECTORY = re.compile(rb"dir:(/sys/class/net/(?!\.{1,2}/)[^/\s\0]{1,32}/(?:device|wireless))")
_CHANGED = re.compile(rb"at:(\d{1,12}):(/[^\0]{1,1000})", re.S)
_SIZES = re.compile(rb"d([fi]):\S.*?\s(\d+)\s+(\d+)\s+(\d+)\s+(?:\d+%|-)\s+(/.*)", re.S)
# limits of what one frame brings, of all before the first line of the run, and of the whole run
FRAME_MAX_LINES, FRAME_MAX_BYTES = 400_000, 48 << 20
GREETING_MAX_BYTES, RUN_MAX_BYTES = 1 << 20, 2 << 30
# the same bound as for a local capture
COMMAND_MAX_BYTES = 32 << 10
# a day at one tick a second; a recorder asks for more than it ever takes
TICKS_MAX = 999_999_999
# one tick a day
EVERY_MAX_S = 86_400.0
CENTI = 0.01
BEGINNING_WORDS = 9


class Garbled(ValueError):
    """Input that no collector writes, with the reason."""


class NoCollector(Garbled):
    """Not one line is of a collector."""


class Begun(NamedTuple):
    """First frame of the collector."""

    pid: int
    ticks: int  # planned
    every_s: float
    started_s: float  # since 1970, by the remote clock
    zone: str  # offset as date(1) prints it
    is_privileged: bool


class Sizes(NamedTuple):
    """One file system as df(1) has it: units of 1024 bytes, or inodes."""

    blocks: int
    used: int
    free: int


@dataclass(slots=True)
class Frame:
    """One round of the collector."""

    number: int
    at_s: float  # uptime of the remote computer when reading began
    files: dict[str, bytes] = field(default_factory=dict)  # contents by path
    commands: dict[int, bytes] = field(default_factory=dict)  # command lines by process
    programs: dict[int, bytes] = field(default_factory=dict)  # targets of /proc/PID/exe
    # targets of /proc/PID/fd
    descriptors: dict[int, dict[int, bytes]] = field(default_factory=dict)
    directories: list[str] = field(default_factory=list)
    blocks: dict[str, Sizes] = field(default_factory=dict)  # of statfs(2), by mount point
    inodes: dict[str, Sizes] = field(default_factory=dict)
    # when files were changed, in seconds since 1970
    changed_s: dict[str, float] = field(default_factory=dict)


def is_collected(beginning: bytes) -> bool:
    """Whether a file that begins so was written by the collector."""
    return MAGIC.match(beginning) is not None


class _Budget:
    """Counts what arrives; raises Garbled when it is more than any computer sends."""

    def __init__(self, label: str, max_bytes: int, max_lines: int | None = None) -> None:
        self._label, self._max_bytes, self._max_lines = label, max_bytes, max_lines
        self._bytes = self._lines = 0

    def reset(self) -> None:
        self._bytes = self._lines = 0

    def take(self, line: bytes) -> None:
        self._bytes += len(line)
        self._lines += 1
        if self._bytes > self._max_bytes:
            raise Garbled(f"{self._label} is longer than {self._max_bytes >> 20} MiB")
        if self._max_lines is not None and self._lines > self._max_lines:
            raise Garbled(f"{self._label} has more than {self._max_lines} lines")


class Stream:
    """The frames of a run; ``begun`` is known once the first line of it came."""

    def __init__(self, lines: Iterable[bytes], mark: str | None = None) -> None:
        self._lines = iter(lines)
        self._mark = mark.encode() if mark else None
        self.is_whole = False
        self.begun = self._beginning()

    def _beginning(self) -> Begun:
        budget = _Budget("what comes before its first line", GREETING_MAX_BYTES)
        for line in self._lines:
            match = MAGIC.match(line)
            # before a line of the run that was asked for, anything may be said
            if match and self._mark in (None, match[1]):
                self._mark = match[1]
                return _begun(line)
            budget.take(line)
        raise NoCollector("it has no line of a collector")

    def frames(self) -> Iterator[Frame]:
        """Yield each whole frame, without one that was cut off; raises Garbled."""
        # output of a shell before a tick belongs to that tick's frame
        lines: list[bytes] = []
        frame: Frame | None = None
        of_frame = _Budget("one tick of it", FRAME_MAX_BYTES, FRAME_MAX_LINES)
        of_run = _Budget("all of it", RUN_MAX_BYTES)
        for line in self._lines:
            of_run.take(line)
            words = self._words(line)
            if words is None:
                of_frame.take(line)
                lines.append(line)
            elif words[0] == b"tick":
                if not any(words[2:3]):
                    raise Garbled("it has no /proc; mount it there, or name another command")
                frame = Frame(_number(words[1]), _seconds(words[2]))
            elif words[0] == b"end" and frame is not None:
                _fill(frame, lines)
                yield frame
                frame, lines = None, []
                of_frame.reset()
            elif words[0] == b"done":
                self.is_whole = True
                return

    def _words(self, line: bytes) -> list[bytes] | None:
        """Return the collector's own words, None for a line of contents."""
        if self._mark is None or not line.startswith(b"@" + self._mark + b" "):
            return None
        return [*line.split()[1:], b"", b""]


def _begun(line: bytes) -> Begun:
    words = line.split()
    if len(words) != BEGINNING_WORDS:
        raise Garbled("its first line is cut short")
    pid, ticks, every, started, zone, uid = words[3:]
    begun = Begun(
        _number(pid),
        _number(ticks),
        _number(every) * CENTI,
        float(_number(started)),
        zone.decode("ascii", "replace"),
        _number(uid) == 0,
    )
    if not 0 < begun.ticks <= TICKS_MAX or not 0 < begun.every_s <= EVERY_MAX_S:
        raise Garbled(f"its first line asks for {begun.ticks} ticks, {begun.every_s:g} s apart")
    return begun


def _number(word: bytes) -> int:
    if not word.isdigit() or len(word) > 12:
        raise Garbled(f"expected a number, found {word[:20]!r}")
    return int(word)


def _seconds(word: bytes) -> float:
    whole, _, hundredths = word.partition(b".")
    return _number(whole) + _number(hundredths or b"0") * CENTI


def _fill(frame: Frame, lines: list[bytes]) -> None:
    """Sort the lines of a frame into it."""
    files: dict[bytes, list[bytes]] = defaultdict(list)
    commands: dict[int, list[bytes]] = defaultdict(list)
    process: int | None = None
    forged: set[str] = set()
    for raw in lines:
        line = raw.rstrip(b"\n")
        if match := file_line().fullmatch(line):
            files[match[1]].append(match[2])
        elif line.startswith(b"fd:"):
            process = _descriptor(frame, line, process)
        elif match := _COMMAND.fullmatch(line):
            # a command line with line ends in it comes in several lines
            commands[int(match[1])].append(match[2])
        elif line == b"none:/proc/locks":
            files[b"/proc/locks"] = []
        elif match := _SIZES.fullmatch(line):
            sizes = Sizes(*(min(int(number[:18]), 2**60) for number in match.group(2, 3, 4)))
            table = frame.blocks if match[1] == b"f" else frame.inodes
            point = match[5].decode("utf-8", "replace")
            # a mount point with a line end in its name can forge a line of another one
            if table.setdefault(point, sizes) != sizes:
                forged.add(point)
        else:
            _take_fact(frame, line)
    for point in forged:
        frame.blocks.pop(point, None)
        frame.inodes.pop(point, None)
    for pid, words in commands.items():
        text = b"\n".join(words)[:COMMAND_MAX_BYTES]
        frame.commands[pid] = text.replace(b"\1", b"\0").replace(b"\2", b"\n")
    for path, parts in files.items():
        name = path.decode("utf-8", "surrogateescape").lstrip("/")
        frame.files[name] = b"".join(part + b"\n" for part in parts)


def _take_fact(frame: Frame, line: bytes) -> None:
    """Take a line that tells one thing by itself; all others are nobody's."""
    if match := _PROGRAM.fullmatch(line):
        frame.programs[int(match[1])] = match[2]
    elif match := _DIRECTORY.fullmatch(line):
        frame.directories.append(match[1].decode("ascii", "replace").lstrip("/"))
    elif match := _CHANGED.fullmatch(line):
        name = match[2].decode("utf-8", "surrogateescape").lstrip("/")
        frame.changed_s[name] = float(match[1])


def _descriptor(frame: Frame, line: bytes, process: int | None) -> int | None:
    """Take one line of the list of open files; return whose the next ones are."""
    if match := _DESCRIPTORS.fullmatch(line):
        process = int(match[1])
        frame.descriptors.setdefault(process, {})
    elif process is not None and (match := _DESCRIPTOR.fullmatch(line)):
        frame.descriptors[process][int(match[1])] = match[2]
    return process
