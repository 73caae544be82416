"""Takes apart what the collector wrote: lines, each with the name of its file in front.

A line that begins with ``@`` and the mark of this run is the collector's own word; whatever a file
holds has the file's name before it, so that no name or content on the far computer can be taken for
another line. Whatever came before the first word, as a greeting by the shell, is passed over.
"""

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

MAGIC = re.compile(rb"@([0-9a-f]{8,64}) begin 1 ")
# what a file may be called that is taken over, by its last part; content comes after the colon
_LEAVES = (
    "cpuinfo|hostname|osrelease|pid_max|threads-max|sched_autogroup_enabled|task_delayacct|boot_id"
    "|passwd|os-release|route|ipv6_route|offline|core_id|physical_package_id|cpu_capacity"
    "|cpuinfo_(?:max|min)_freq|scaling_(?:max|cur)_freq|base_frequency|scaling_governor|size|removable"
    "|rotational|scheduler|nr_requests|model|queue_depth|partition|name|type|mtu|operstate|speed"
    "|duplex|(?:temp|fan|in|curr|power|energy|humidity)\\d+_[a-z_]+|trip_point_\\d+_(?:type|temp)|temp"
    "|max_energy_range_uj|energy_uj|mem_info_vram_(?:total|used)|vendor|device|uevent"
    "|cgroup\\.controllers|cpu\\.(?:max|stat|pressure)|uptime|stat|loadavg|cpu|memory|io|irq|meminfo"
    "|vmstat|diskstats|dev|snmp|netstat|(?:core|package)_throttle_count|gpu_busy_percent|mm_stat"
    "|schedstat|comm|statm|status|cgroup|loginuid|limits|wchan|tcp6?|udp6?|unix|interrupts|locks|swaps|mountinfo"
)
_FILE = re.compile(
    rb"(/(?:proc|sys|etc)/(?:[^/\n]{1,255}/){0,24}?(?:" + _LEAVES.encode() + rb")):(.*)", re.S
)
_COMMAND = re.compile(rb"cmd:/proc/(\d{1,7})/cmdline:(.*)", re.S)
_PROGRAM = re.compile(rb"exe:.*? /proc/(\d{1,7})/exe -> (/.*)", re.S)
_DESCRIPTORS = re.compile(rb"fd:/proc/(\d{1,7})/fd:?")
_DESCRIPTOR = re.compile(rb"fd:.*? (\d{1,7}) -> (.*)", re.S)
_DIRECTORY = re.compile(rb"dir:(/sys/class/net/[^/\n]{1,32}/(?:device|wireless))")
_SIZES = re.compile(rb"d([fi]):\S.*?\s(\d+)\s+(\d+)\s+(\d+)\s+(?:\d+%|-)\s+(/.*)", re.S)
# of what one moment brings no more is kept
LINES_MOST, FRAME_MOST_BYTES = 400_000, 64 << 20
CENTI = 0.01
BEGINNING_WORDS = 9


class Garbled(ValueError):
    """What came is not what a collector writes; says what."""


class Begun(NamedTuple):
    """What the collector said first: its own process, the plan, the clock there, and its rights."""

    pid: int
    ticks: int
    every_s: float
    started_s: float
    zone: str
    is_privileged: bool


class Sizes(NamedTuple):
    """One file system as df(1) has it: units of 1024 bytes, or inodes."""

    blocks: int
    used: int
    free: int


@dataclass(slots=True)
class Frame:
    """What one moment brought. ``at_s`` is the far computer's uptime when reading began.

    ``files`` are contents by name, ``commands`` the bytes of command lines, ``programs`` the
    targets of executables, ``descriptors`` those of open files by process.
    """

    number: int
    at_s: float
    files: dict[str, bytes] = field(default_factory=dict)
    commands: dict[int, bytes] = field(default_factory=dict)
    programs: dict[int, bytes] = field(default_factory=dict)
    descriptors: dict[int, dict[int, bytes]] = field(default_factory=dict)
    directories: list[str] = field(default_factory=list)
    blocks: dict[str, Sizes] = field(default_factory=dict)
    inodes: dict[str, Sizes] = field(default_factory=dict)


def is_collected(beginning: bytes) -> bool:
    """Whether a file that begins so was written by the collector."""
    return MAGIC.match(beginning) is not None


class Stream:
    """The frames of a run; ``begun`` is known once the first line of it came."""

    def __init__(self, lines: Iterable[bytes], mark: str | None = None) -> None:
        self._lines = iter(lines)
        self._mark = mark.encode() if mark else None
        self.is_whole = False
        self.begun = self._beginning()

    def _beginning(self) -> Begun:
        for line in self._lines:
            match = MAGIC.match(line)
            # before a line of the run that was asked for, anything may be said
            if match and self._mark in (None, match[1]):
                self._mark = match[1]
                return _begun(line)
        raise Garbled("it said nothing that a collector says")

    def frames(self) -> Iterator[Frame]:
        """Yield each whole frame; what was cut off is left out."""
        first: list[bytes] = []
        frame: Frame | None = None
        lines: list[bytes] = []
        taken_bytes = 0
        for line in self._lines:
            words = self._words(line)
            if words is None:
                taken_bytes += len(line)
                if len(lines) >= LINES_MOST or taken_bytes > FRAME_MOST_BYTES:
                    raise Garbled("one moment of it is longer than any computer makes it")
                (lines if frame else first).append(line)
            elif words[0] == b"tick":
                frame, lines = Frame(_number(words[1]), _seconds(words[2])), first
                first, taken_bytes = [], 0
            elif words[0] == b"end" and frame is not None:
                _fill(frame, lines)
                yield frame
                frame, lines = None, []
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
    return Begun(
        _number(pid), _number(ticks), _number(every) * CENTI, float(_number(started)),
        zone.decode("ascii", "replace"), _number(uid) == 0,
    )  # fmt: skip


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
    process: int | None = None
    for line in lines:
        if match := _FILE.fullmatch(line.rstrip(b"\n")):
            files[match[1]].append(match[2])
        elif line.startswith(b"fd:"):
            process = _descriptor(frame, line, process)
        elif match := _COMMAND.fullmatch(line.rstrip(b"\n")):
            text = match[2].replace(b"\1", b"\0").replace(b"\2", b"\n")
            # one that holds line ends comes in several lines
            before = frame.commands.get(int(match[1]))
            frame.commands[int(match[1])] = text if before is None else before + b"\n" + text
        elif match := _PROGRAM.fullmatch(line.rstrip(b"\n")):
            frame.programs[int(match[1])] = match[2]
        elif match := _DIRECTORY.fullmatch(line.rstrip(b"\n")):
            frame.directories.append(match[1].decode("ascii", "replace").lstrip("/"))
        elif line.rstrip(b"\n") == b"none:/proc/locks":
            files[b"/proc/locks"] = []
        elif match := _SIZES.fullmatch(line.rstrip(b"\n")):
            sizes = Sizes(*(min(int(number[:18]), 2**60) for number in match.group(2, 3, 4)))
            point = match[5].decode("utf-8", "replace")
            (frame.blocks if match[1] == b"f" else frame.inodes)[point] = sizes
    for name, parts in files.items():
        text = name.decode("utf-8", "surrogateescape").lstrip("/")
        if ".." not in text.split("/"):
            frame.files[text] = b"".join(part + b"\n" for part in parts)


def _descriptor(frame: Frame, line: bytes, process: int | None) -> int | None:
    """Take one line of the list of open files; return whose the next ones are."""
    if match := _DESCRIPTORS.fullmatch(line.rstrip(b"\n")):
        process = int(match[1])
        frame.descriptors.setdefault(process, {})
    elif process is not None and (match := _DESCRIPTOR.fullmatch(line.rstrip(b"\n"))):
        frame.descriptors[process][int(match[1])] = match[2]
    return process
