"""Topic ``memory``: where the installed memory is, what was paged, and where swap lies."""

from collections import defaultdict
from collections.abc import Iterator

from dunmist.advice import Judged
from dunmist.series import Application, memory_breakdown
from dunmist.tables.declared import CURVE_POINTS, Column, Row, Table
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


def _parts(judged: Judged) -> Iterator[Row]:
    """Yield the parts of the installed memory at the end of the capture; they add up to it.

    Where the firmware lists its modules, installed is their sum; else it is what the kernel got.
    """
    series = judged.series
    managed = float(series.machine.memory_bytes("MemTotal").values[-1])
    firmware = series.header.inventory.firmware
    modules = sum(module.size_bytes or 0 for module in firmware.modules) if firmware else 0
    total = max(managed, float(modules))
    for part, held in memory_breakdown(series.machine).items():
        size = float(held.values[-1])
        yield {
            "part": part,
            "bytes": size,
            "share": min(1.0, size / total),
            "change_bytes": held.change(),
            "share_curve": (held / total).between(0.0, 1.0).curve(CURVE_POINTS),
        }
    if total > managed:
        kept = total - managed
        yield {"part": OUTSIDE, "bytes": kept, "share": min(1.0, kept / total), "change_bytes": 0.0}
    yield {"part": INSTALLED, "bytes": total, "share": 1.0, "change_bytes": 0.0}


INSTALLED_MEMORY = Table(
    "installed memory",
    "at the end of the capture. The parts add up to the last row, `installed`. That is the modules "
    "that the firmware lists, else what the kernel manages",
    (
        Column("part", "text", "what it is used for"),
        Column("bytes", "bytes", "size", title="bytes"),
        Column("share", "share", "of what is installed"),
        CHANGE_BYTES,
        Column("share_curve", "curve of shares", "share over the capture"),
    ),
    _parts,
)


def _use(judged: Judged) -> Iterator[Row]:
    """Yield what people ask for first; used is all that is not available."""
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
            share = size / whole if whole else None
            yield {"what": what, "bytes": size, "of_bytes": whole, "share": share}


MEMORY_USE = Table(
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


def _holders(judged: Judged) -> Iterator[Row]:
    """Yield who holds memory at the end, one application a row."""
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
        if application.kernel:
            continue
        held = float(application.private_bytes.values[-1])
        yield {
            "application": application.name,
            "processes": len(application.members),
            "private_bytes": held,
            "share": min(1.0, held / total),
            "change_bytes": application.private_bytes.change(),
            "private_curve_bytes": application.private_bytes.curve(CURVE_POINTS),
            "rss_bytes": float(application.rss_bytes.values[-1]),
            "proportional_bytes": exact.get(application),
            "swap_bytes": swapped.get(application),
        }


HOLDERS = Table(
    "holders",
    "who holds memory at the end, the greatest first",
    (
        APPLICATION,
        Column("processes", "number", "how many processes it had"),
        PRIVATE_BYTES,
        Column("share", "share", "of what the kernel manages"),
        CHANGE_BYTES,
        Column("private_curve_bytes", "curve", "memory of its own over the capture"),
        RSS_BYTES,
        Column("proportional_bytes", "bytes", "of its largest processes, shared pages divided"),
        Column("swap_bytes", "bytes", "in swap, of those whose details may be read"),
    ),
    _holders,
    shown=(
        "application",
        "private_bytes",
        "share",
        "change_bytes",
        "private_curve_bytes",
        "processes",
        "rss_bytes",
        "proportional_bytes",
        "swap_bytes",
    ),
    order=("private_bytes",),
)


def _paging(judged: Judged) -> Iterator[Row]:
    paging = judged.series.machine.paging
    for event, words in PAGING_EVENTS.items():
        present = [word for word in words if word in paging]
        if present:
            rate = sum((paging[word] for word in present[1:]), paging[present[0]])
            yield {
                "event": event,
                "mean_per_s": rate.known_mean(),
                "greatest_per_s": rate.greatest(),
                "since_start": sum(judged.series.machine.paged[word] for word in present),
            }


PAGING = Table(
    "paging",
    "what was paged",
    (
        Column("event", "text", "what happened"),
        Column("mean_per_s", "a second", "how often, mean"),
        Column("greatest_per_s", "a second", "how often, most in an interval"),
        Column("since_start", "number", "how often since the computer started"),
    ),
    _paging,
)


def _swaps(judged: Judged) -> Iterator[Row]:
    survey = judged.series.surveyed.last
    for swap in survey.swaps if survey else []:
        yield {
            "area": swap.name,
            "kind": swap.kind,
            "size_bytes": swap.size_bytes,
            "used_bytes": swap.used_bytes,
            "used_share": min(1.0, swap.used_bytes / swap.size_bytes) if swap.size_bytes else None,
            "priority": swap.priority,
        }


SWAP_AREAS = Table(
    "swap areas",
    "where swap lies",
    (
        Column("area", "text", "file or device"),
        Column("kind", "text", "file or partition"),
        Column("size_bytes", "bytes", "size"),
        Column("used_bytes", "bytes", "used"),
        Column("used_share", "share", "used", answers=("least",)),
        Column("priority", "number", "the greatest is used first"),
    ),
    _swaps,
)
MEMORY_TABLES = (MEMORY_USE, INSTALLED_MEMORY, HOLDERS, PAGING, SWAP_AREAS, MODULES)
