"""Topic ``memory``: where the installed memory is, what was paged, and where swap lies."""

from collections import defaultdict

import pandas as pd

from dunmist.series.curves import curve
from dunmist.series.load import Series
from dunmist.series.memory_breakdown import memory_breakdown
from dunmist.series.tables._frames import frame_of, greatest, known_mean

# words of vmstat by what they count; the pages are of the kernel's page size
PAGING = {
    "pages swapped in": ("pswpin",),
    "pages swapped out": ("pswpout",),
    "major faults": ("pgmajfault",),
    "minor faults": ("pgfault",),
    "pages scanned in direct reclaim": ("pgscan_direct",),
    "stalls in allocation": (
        "allocstall_dma", "allocstall_dma32", "allocstall_normal", "allocstall_movable",
    ),
    "pages of programs refaulted": ("workingset_refault_anon",),
    "pages of files refaulted": ("workingset_refault_file",),
    "processes killed for lack of memory": ("oom_kill",),
}  # fmt: skip
CURVE_POINTS = 12
KIB = 1024.0
OUTSIDE = "kept at boot by firmware and kernel"


def memory_table(series: Series) -> pd.DataFrame:
    """Return the parts of the installed memory at the end of the capture; they add up to it.

    Where the firmware lists its modules, installed is their sum; else it is what the kernel got.
    """
    parts = memory_breakdown(series.machine)
    managed = float(series.machine.memory_bytes("MemTotal")[-1])
    firmware = series.header.inventory.firmware
    modules = sum(one.size_bytes or 0 for one in firmware.modules) if firmware else 0
    total = max(managed, float(modules))
    rows = [
        {
            "part": part,
            "bytes": float(held[-1]),
            "share": float(held[-1]) / total,
            "change_bytes": float(held[-1] - held[0]),
            "share_curve": curve(held / total, CURVE_POINTS),
        }
        for part, held in parts.items()
    ]
    if total > managed:
        kept = total - managed
        rows.append({"part": OUTSIDE, "bytes": kept, "share": kept / total, "change_bytes": 0.0})
    rows.append({"part": "installed", "bytes": total, "share": 1.0, "change_bytes": 0.0})
    return pd.DataFrame(rows)


def holder_table(series: Series) -> pd.DataFrame:
    """Return who holds memory, one application a row, the greatest first.

    ``proportional_bytes`` is known for those whose largest processes were read exactly,
    ``swap_bytes`` for those whose details may be read.
    """
    processes, grouping = series.processes, series.processes.grouping
    exact: dict[int, float] = defaultdict(float)
    for rollup in series.surveys[-1].rollups if series.surveys else []:
        exact[grouping.application_of[rollup.process]] += rollup.pss_kib * KIB
    swapped: dict[int, float] = defaultdict(float)
    for identity, (_, detail) in processes.details.items():
        if detail.swap_kib is not None and identity not in processes.ended_tick:
            swapped[grouping.application_of[identity]] += detail.swap_kib * KIB
    total = float(series.machine.memory_bytes("MemTotal")[-1])
    rows: list[dict[str, object]] = [
        {
            "application": one.name,
            "processes": len(one.members),
            "private_bytes": float(processes.private_bytes[-1, number]),
            "share": float(processes.private_bytes[-1, number]) / total,
            "change_bytes": float(
                processes.private_bytes[-1, number] - processes.private_bytes[0, number]
            ),
            "private_curve_bytes": curve(processes.private_bytes[:, number], CURVE_POINTS),
            "rss_bytes": float(processes.rss_bytes[-1, number]),
            "proportional_bytes": exact.get(number),
            "swap_bytes": swapped.get(number),
        }
        for number, one in enumerate(grouping.applications)
        if not one.kernel
    ]
    return frame_of(rows, "private_bytes")


def paging_table(series: Series) -> pd.DataFrame:
    """Return what was paged, one kind a row, in events a second."""
    machine = series.machine
    rows = []
    for kind, words in PAGING.items():
        known = [machine.paging[word] for word in words if word in machine.paging]
        if known:
            rate = sum(known[1:], known[0])
            rows.append(
                {
                    "event": kind,
                    "mean_per_s": known_mean(rate, machine.interval_s),
                    "greatest_per_s": greatest(rate),
                }
            )
    return pd.DataFrame(rows)


def swap_table(series: Series) -> pd.DataFrame:
    """Return one row for each swap area."""
    survey = series.last_survey
    rows = [
        {
            "area": one.name,
            "kind": one.kind,
            "size_bytes": one.size_bytes,
            "used_bytes": one.used_bytes,
            "used_share": one.used_bytes / one.size_bytes if one.size_bytes else None,
            "priority": one.priority,
        }
        for one in (survey.swaps if survey else [])
    ]
    return pd.DataFrame(rows)
