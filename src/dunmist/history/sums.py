"""Define the sums of a recorded period; the parts of a period add up exactly.

A period is an hour, or a day of local time. Means and shares are made of sums when they are asked
for. No command line, path, peer or owner is in it: names of programs and devices only.
"""

import sys
from array import array
from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from typing import Literal, NamedTuple, TypeVar

HOUR_S, DAY_S = 3600, 86_400
# shares of a resource are counted by their square root, in steps of a fortieth: small shares are
# distinguished as well as large ones
BINS = 40
# how a column of two parts of a period becomes one
MOST = {"how": "most"}
# programs that took less than this in a part are counted together
LEAST_CORES, LEAST_MEMORY_BYTES, LEAST_MOVED_BYTES_PER_S = 0.0015, 20 << 20, 4 << 10
OTHERS, KERNEL = "(others)", "(kernel)"
LevelWord = Literal["storage", "battery"]
EventWord = Literal["start", "incident", "change"]


def bin_of(share: float) -> int:
    """Return where a share is counted."""
    return min(int(share**0.5 * BINS), BINS - 1)


@dataclass(slots=True)
class ApplicationSum:
    """Usage of the processes of one application."""

    cpu_s: float = 0.0
    memory_byte_s: float = 0.0  # memory of its own, times how long
    memory_s: float = 0.0  # for how long that is known
    memory_peak_bytes: float = field(default=0.0, metadata=MOST)
    disk_bytes: float = 0.0
    network_bytes: float = 0.0  # over TCP
    energy_j: float = 0.0  # its part of what the CPU took, by CPU time

    def add(self, other: "ApplicationSum") -> None:
        """Add what another part has; written out, as months have hundreds of thousands of them."""
        self.cpu_s += other.cpu_s
        self.memory_byte_s += other.memory_byte_s
        self.memory_s += other.memory_s
        self.memory_peak_bytes = max(self.memory_peak_bytes, other.memory_peak_bytes)
        self.disk_bytes += other.disk_bytes
        self.network_bytes += other.network_bytes
        self.energy_j += other.energy_j


@dataclass(slots=True)
class ResourceSum:
    """Use of one resource, and the tasks that waited for it."""

    used_share_s: float = 0.0  # share in use, times how long
    used_s: float = 0.0  # for how long that is known
    held_share_s: float = 0.0  # share of time in which tasks waited, times how long
    held_s: float = 0.0
    used_bins: list[float] = field(default_factory=lambda: [0.0] * BINS)  # seconds by share
    held_bins: list[float] = field(default_factory=lambda: [0.0] * BINS)

    def take(self, used: float | None, held: float | None, span_s: float) -> None:
        """Count one interval; None is 'unknown'."""
        if used is not None:
            used = min(max(used, 0.0), 1.0)
            self.used_share_s += used * span_s
            self.used_s += span_s
            self.used_bins[bin_of(used)] += span_s
        if held is not None:
            held = min(max(held, 0.0), 1.0)
            self.held_share_s += held * span_s
            self.held_s += span_s
            self.held_bins[bin_of(held)] += span_s


@dataclass(slots=True)
class HeatSum:
    """Temperature of the CPU, at load and at rest, and what heat and power cost.

    The sums over load and temperature make a straight line of the two. Load is in cores in use.
    """

    load_s: float = 0.0  # for how long load and temperature are both known
    load_core_s: float = 0.0
    load_celsius_s: float = 0.0
    load_core2_s: float = 0.0
    load_core_celsius_s: float = 0.0
    busy_s: float = 0.0  # with at least half of the CPUs in use
    busy_celsius_s: float = 0.0
    rest_s: float = 0.0  # with at most a tenth of them in use
    rest_celsius_s: float = 0.0
    lost_clock_s: float = 0.0  # share of the clock that busy CPUs lacked, times how long
    clock_s: float = 0.0
    throttles: float = 0.0
    energy_j: float = 0.0
    energy_s: float = 0.0


@dataclass(slots=True)
class DiskSum:
    """Requests of one disk."""

    requests: float = 0.0
    request_s: float = 0.0  # of all requests together


Sum = ApplicationSum | ResourceSum | HeatSum | DiskSum
S = TypeVar("S", ApplicationSum, ResourceSum, HeatSum, DiskSum)


def add_up(into: S, other: S) -> None:
    """Add what another part of the same period has."""
    if isinstance(into, ApplicationSum) and isinstance(other, ApplicationSum):
        into.add(other)
        return
    added, most, bins = COLUMNS[type(into)]
    for name in added:
        setattr(into, name, getattr(into, name) + getattr(other, name))
    for name in most:
        setattr(into, name, max(getattr(into, name), getattr(other, name)))
    for name in bins:
        pairs = zip(getattr(into, name), getattr(other, name), strict=True)
        setattr(into, name, [mine + others for mine, others in pairs])


def _columns(of: type[Sum]) -> tuple[list[str], list[str], list[str]]:
    """Return the columns that are added, those of which the greatest counts, and the bins."""
    columns = fields(of)
    bins = [each.name for each in columns if each.name.endswith("_bins")]
    most = [each.name for each in columns if each.metadata == MOST]
    added = [each.name for each in columns if each.name not in (*bins, *most)]
    return added, most, bins


COLUMNS: Mapping[type[Sum], tuple[list[str], list[str], list[str]]] = {
    of: _columns(of) for of in (ApplicationSum, ResourceSum, HeatSum, DiskSum)
}


class Level(NamedTuple):
    """Fill of something, or the rest of it; the newest of a period counts."""

    what: LevelWord
    name: str
    value: float
    whole: float


class Event(NamedTuple):
    """Something that happened at a time, in seconds since 1970."""

    at_s: float
    what: EventWord
    name: str
    value: float | None = None  # how long a start took, in seconds


@dataclass(slots=True)
class Period:
    """An hour or a day; ``offset_s`` is local time minus UTC."""

    began_s: int  # since 1970
    length_s: int = HOUR_S
    offset_s: int = 0
    sampled_s: float = 0.0
    clock_set: int = 0  # how often the clock jumped in it
    cpus: int = field(default=0, metadata=MOST)
    memory_bytes: int = field(default=0, metadata=MOST)
    applications: dict[str, ApplicationSum] = field(default_factory=dict)
    resources: dict[str, ResourceSum] = field(default_factory=dict)
    disks: dict[str, DiskSum] = field(default_factory=dict)
    heat: HeatSum = field(default_factory=HeatSum)
    levels: dict[tuple[str, str], Level] = field(default_factory=dict)
    # programs that are counted with others: that they were there is kept, and no more
    small: set[str] = field(default_factory=set)

    @property
    def local_hour(self) -> int:
        """The hour of the day on the clock on the wall."""
        return (self.began_s + self.offset_s) % DAY_S // HOUR_S

    @property
    def local_day(self) -> int:
        """Days since 1970 of the local date; day 0 was a Thursday."""
        return (self.began_s + self.offset_s) // DAY_S

    @property
    def is_weekend(self) -> bool:
        """Whether it is of a Saturday or Sunday."""
        return (self.local_day + 3) % 7 >= 5

    def add(self, other: "Period") -> None:
        """Add what another part of the period has."""
        self.sampled_s += other.sampled_s
        self.clock_set += other.clock_set
        self.cpus = max(self.cpus, other.cpus)
        self.memory_bytes = max(self.memory_bytes, other.memory_bytes)
        for name, application in other.applications.items():
            add_up(self.applications.setdefault(name, ApplicationSum()), application)
        for name, resource in other.resources.items():
            add_up(self.resources.setdefault(name, ResourceSum()), resource)
        for name, disk in other.disks.items():
            add_up(self.disks.setdefault(name, DiskSum()), disk)
        add_up(self.heat, other.heat)
        self.levels |= other.levels
        self.small |= other.small

    def without_small_ones(self) -> None:
        """Count programs together that took next to nothing."""
        small = [
            name
            for name, each in self.applications.items()
            if name != OTHERS
            and each.cpu_s < LEAST_CORES * self.sampled_s
            and each.memory_peak_bytes < LEAST_MEMORY_BYTES
            and each.disk_bytes + each.network_bytes < LEAST_MOVED_BYTES_PER_S * self.sampled_s
        ]
        for name in small:
            others = self.applications.setdefault(OTHERS, ApplicationSum())
            add_up(others, self.applications.pop(name))
        self.small.update(small)


@dataclass(slots=True)
class Piece:
    """Sums of one capture or segment, under an identity that is never added twice."""

    identity: str
    began_s: float  # since 1970
    ended_s: float
    periods: list[Period]
    events: list[Event] = field(default_factory=list)


def quantile(bins: list[float], share: float) -> float | None:
    """Return the share of use below which a part of the time lies; None if nothing is known."""
    whole = sum(bins)
    if whole <= 0:
        return None
    left = share * whole
    for index, seconds in enumerate(bins):
        if seconds > 0 and left <= seconds:
            return ((index + left / seconds) / BINS) ** 2
        left -= seconds
    return 1.0


def packed(bins: list[float]) -> bytes:
    """Return bins as they are stored: 32-bit floating-point numbers, little-endian."""
    numbers = array("f", bins)
    if sys.byteorder == "big":
        numbers.byteswap()
    return numbers.tobytes()


def unpacked(data: bytes) -> list[float]:
    """Return bins as they were stored; raises ValueError where it is something else."""
    numbers = array("f")
    if len(data) != BINS * numbers.itemsize:
        raise ValueError(f"{len(data)} bytes are not {BINS} numbers")
    numbers.frombytes(data)
    if sys.byteorder == "big":
        numbers.byteswap()
    return list(numbers)
