"""Topic ``memory``: where the installed memory is, what was paged, and where swap lies."""

from collections import defaultdict
from collections.abc import Iterator
from typing import NamedTuple

from dunmist.advice import Judged
from dunmist.computer import SwapArea
from dunmist.series import Application, Level, Rate, memory_breakdown
from dunmist.tables.declared import CURVE_POINTS, Column, Table
from dunmist.tables.machine import MODULES
from dunmist.tables.shared_columns import APPLICATION, CHANGE_BYTES, PRIVATE_BYTES, RSS_BYTES

# words of vmstat by what they count; the pages are of the kernel's page size
PAGING_EVENTS = {
    "pages swapped in": ("pswpin",),
    "pages swapped out": ("pswpout",),
    "major faults": ("pgmajfault",),
    "minor faults": ("pgfault",),
    "pages scanned in direct reclaim": ("pgscan_direct",),
    "stalls in allocation": (
        "allocstall_dma",
        "allocstall_dma32",
        "allocstall_normal",
        "allocstall_movable",
    ),
    "pages of programs refaulted": ("workingset_refault_anon",),
    "pages of files refaulted": ("workingset_refault_file",),
    "processes killed for lack of memory": ("oom_kill",),
}
KIB = 1024.0
OUTSIDE, INSTALLED = "kept at boot by firmware and kernel", "installed"


class Part(NamedTuple):
    """One part of the installed memory; ``held`` is None for what is the same at all ticks."""

    part: str
    bytes: float
    total_bytes: float
    held: Level | None = None

    @property
    def share_curve(self) -> list[float | None] | None:
        """Its share of all over the capture."""
        if self.held is None:
            return None
        return (self.held / self.total_bytes).between(0.0, 1.0).curve(CURVE_POINTS)


def _parts(judged: Judged) -> Iterator[Part]:
    """Yield the parts of the installed memory at the end of the capture; they add up to it.

    Where the firmware lists its modules, installed is their sum; else it is what the kernel got.
    """
    series = judged.series
    managed = float(series.machine.memory_bytes("MemTotal").values[-1])
    firmware = series.header.inventory.firmware
    modules = sum(module.size_bytes or 0 for module in firmware.modules) if firmware else 0
    total = max(managed, float(modules))
    for part, held in memory_breakdown(series.machine).items():
        yield Part(part, float(held.values[-1]), total, held)
    if total > managed:
        yield Part(OUTSIDE, total - managed, total)
    yield Part(INSTALLED, total, total)


INSTALLED_MEMORY: Table[Part] = Table(
    "installed memory",
    "at the end of the capture. The parts add up to the last row, `installed`. That is the modules "
    "that the firmware lists, else what the kernel manages",
    (
        Column("part", "text", "use of this part"),
        Column("bytes", "bytes", "size", title="bytes"),
        Column("share", "share", "of the installed memory",
            lambda row: min(1.0, row.bytes / row.total_bytes)),
        CHANGE_BYTES.of(lambda row: row.held.change() if row.held else 0.0),
        Column("share_curve", "curve of shares", "share over the capture"),
    ),
    _parts,
)


class Use(NamedTuple):
    """Used part of something."""

    what: str
    bytes: float
    of_bytes: float | None

    @property
    def share(self) -> float | None:
        """The used part."""
        return self.bytes / self.of_bytes if self.of_bytes else None


def _use(judged: Judged) -> Iterator[Use]:
    """Yield the figures that people ask for first; used is all that is not available."""
    machine = judged.series.machine

    def last(word: str) -> float | None:
        return machine.memory_bytes(word).last()

    total, available = last("MemTotal"), last("MemAvailable")
    swap, swap_free = last("SwapTotal"), last("SwapFree")
    known: dict[str, tuple[float | None, float | None]] = {
        "used": (None if total is None or available is None else total - available, total),
        "available": (available, total),
        "committed": (last("Committed_AS"), last("CommitLimit")),
        "swap used": (None if swap is None or swap_free is None else swap - swap_free, swap),
    }
    for what, (size, whole) in known.items():
        if size is not None:
            yield Use(what, size, whole)


MEMORY_USE: Table[Use] = Table(
    "memory use",
    "at the end of the capture; committed is what programs were promised, used or not",
    (
        Column("what", "text", "used, available, committed, swap used"),
        Column("bytes", "bytes", "size", title="size"),
        Column("of_bytes", "bytes", "of what: all memory, the commit limit, all swap"),
        Column("share", "share", "of that; committed memory may pass its limit"),
    ),
    _use,
)


class Holder(NamedTuple):
    """One application that holds memory; ``total_bytes`` is what the kernel manages."""

    application: Application
    total_bytes: float
    proportional_bytes: float | None
    swap_bytes: float | None

    @property
    def private_bytes(self) -> float:
        """Memory not shared with other processes, at the end."""
        return float(self.application.private_bytes.values[-1])


def _holders(judged: Judged) -> Iterator[Holder]:
    """Yield the applications that hold memory at the end."""
    series = judged.series
    exact: dict[Application, float] = defaultdict(float)
    swapped: dict[Application, float] = defaultdict(float)
    for rollup in series.surveyed.last.rollups if series.surveyed.last else []:
        exact[series.processes[rollup.process].application] += rollup.pss_kib * KIB
    for process in series.processes.values():
        detail = process.detail
        if process.is_alive and detail is not None and detail.swap_kib is not None:
            swapped[process.application] += detail.swap_kib * KIB
    total = float(series.machine.memory_bytes("MemTotal").values[-1])
    for application in series.applications:
        if not application.kernel:
            yield Holder(application, total, exact.get(application), swapped.get(application))


HOLDERS: Table[Holder] = Table(
    "holders",
    "programs by memory at the end, the greatest first",
    (
        APPLICATION.of(lambda row: row.application.name),
        Column("processes", "number", "how many processes it had",
            lambda row: len(row.application.members)),
        PRIVATE_BYTES,
        Column("share", "share", "of what the kernel manages",
            lambda row: min(1.0, row.private_bytes / row.total_bytes)),
        CHANGE_BYTES.of(lambda row: row.application.private_bytes.change()),
        Column("private_curve_bytes", "curve", "memory of its own over the capture",
            lambda row: row.application.private_bytes.curve(CURVE_POINTS)),
        RSS_BYTES.of(lambda row: float(row.application.rss_bytes.values[-1])),
        Column("proportional_bytes", "bytes", "of its largest processes, shared pages divided"),
        Column("swap_bytes", "bytes", "in swap, of processes with readable details"),
    ),
    _holders,
    shown=("application", "private_bytes", "share", "change_bytes", "private_curve_bytes",
        "processes", "rss_bytes", "proportional_bytes", "swap_bytes"),
    order=("private_bytes",),
)


class PagingEvent(NamedTuple):
    """Number of paging events; ``since_start`` of the computer."""

    event: str
    rate: Rate
    since_start: float


def _paging(judged: Judged) -> Iterator[PagingEvent]:
    paging = judged.series.machine.paging
    for event, words in PAGING_EVENTS.items():
        present = [word for word in words if word in paging]
        if present:
            rate = sum((paging[word] for word in present[1:]), paging[present[0]])
            since_start = sum(judged.series.machine.paged[word] for word in present)
            yield PagingEvent(event, rate, since_start)


PAGING: Table[PagingEvent] = Table(
    "paging",
    "what was paged",
    (
        Column("event", "text", "what happened"),
        Column("mean_per_s", "a second", "how often, mean", lambda row: row.rate.known_mean()),
        Column("greatest_per_s", "a second", "how often, most in an interval",
            lambda row: row.rate.greatest()),
        Column("since_start", "number", "how often since the computer started"),
    ),
    _paging,
)


def _swaps(judged: Judged) -> list[SwapArea]:
    survey = judged.series.surveyed.last
    return survey.swaps if survey else []


def _used_share(swap: SwapArea) -> float | None:
    return min(1.0, swap.used_bytes / swap.size_bytes) if swap.size_bytes else None


SWAP_AREAS: Table[SwapArea] = Table(
    "swap areas",
    "where swap lies",
    (
        Column("area", "text", "file or device", lambda row: row.name),
        Column("kind", "text", "file or partition"),
        Column("size_bytes", "bytes", "size"),
        Column("used_bytes", "bytes", "used"),
        Column("used_share", "share", "used", _used_share, answers=("least",)),
        Column("priority", "number", "the greatest is used first"),
    ),
    _swaps,
)
MEMORY_TABLES = (MEMORY_USE, INSTALLED_MEMORY, HOLDERS, PAGING, SWAP_AREAS, MODULES)
