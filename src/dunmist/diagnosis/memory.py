"""Resource ``memory``: is it too small for the work?

Free memory does not matter, available does; used swap does not matter, traffic to and from it does.
"""

import numpy as np

from dunmist.diagnosis.lasting import lasting, lasting_level, trace_of
from dunmist.diagnosis.records import ResourceState, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import Level
from dunmist.series import Series
from dunmist.series.rates import Floats


def judge_memory(series: Series, limits: Thresholds) -> ResourceState:
    """Return the state of the memory."""
    machine, table = series.machine, limits["memory"]
    interval_s, share = machine.interval_s, limits["lasting"]["share"]
    total = machine.memory_bytes("MemTotal")[1:]
    available = machine.memory_bytes("MemAvailable")[1:] / total
    used = 1.0 - available
    paging = _pages_per_s(series)
    stalled = machine.stalled.get("memory")
    if stalled is not None:
        met = {level: stalled >= table[f"{level}_pressure"] for level in ("strained", "choked")}
    else:
        # pages thrown out and wanted again at once tell the same, with or without swap
        short = available <= table["short_available"]
        thrashing = paging + _refaults_per_s(series)
        met = {
            level: short & (thrashing >= table[f"{level}_pages_per_s"])
            for level in ("strained", "choked")
        }
    conditions: dict[Level, Floats] = {
        "busy": (used >= table["busy"]).astype(float),
        "strained": met["strained"].astype(float),
        "choked": met["choked"].astype(float),
    }
    level = lasting_level(conditions, interval_s, share)
    pressure = None if stalled is None else lasting(stalled, interval_s, share)
    signs = [
        Sign(
            "memory-available",
            lasting(available, interval_s, share),
            "share",
            "/proc/meminfo",
            of=float(np.nanmedian(total)),
        ),
        Sign("memory-paging", lasting(paging, interval_s, share), "pages/s", "/proc/vmstat"),
    ]
    if pressure is not None:
        signs.append(Sign("memory-pressure", pressure, "share", "/proc/pressure/memory"))
    for key, rate in (
        ("memory-refaults", _refaults_per_s(series)),
        ("memory-reclaim", _rate(series, "pgscan_direct")),
    ):
        usual = lasting(rate, interval_s, share)
        if usual > 0:
            signs.append(Sign(key, usual, "pages/s", "/proc/vmstat"))
    return ResourceState(
        "memory", level, lasting(used, interval_s, share), pressure, signs,
        trace=trace_of(used, stalled, conditions),
    )  # fmt: skip


def judge_swap(series: Series, limits: Thresholds) -> ResourceState | None:
    """Return the state of swap, None without any: its use is harmless, traffic is what counts.

    It never limits by itself: the lack of memory is its cause.
    """
    machine, share = series.machine, limits["lasting"]["share"]
    total = machine.memory_bytes("SwapTotal")[1:]
    if np.isnan(total).all() or np.nanmax(total) <= 0:
        return None
    used = 1.0 - machine.memory_bytes("SwapFree")[1:] / np.maximum(total, 1.0)
    paging = lasting(_pages_per_s(series), machine.interval_s, share)
    level: Level = "strained" if paging >= limits["findings"]["paging_pages_per_s"] else "calm"
    usual = lasting(used, machine.interval_s, share)
    signs = [
        Sign("swap-used", usual, "share", "/proc/meminfo", of=float(np.nanmax(total))),
        Sign("memory-paging", paging, "pages/s", "/proc/vmstat"),
    ]
    heavy = _pages_per_s(series) >= limits["findings"]["paging_pages_per_s"]
    trace = trace_of(used, None, {"strained": heavy.astype(float)})
    return ResourceState("swap", level, usual, None, signs, trace=trace)


def _pages_per_s(series: Series) -> Floats:
    return _rate(series, "pswpin") + _rate(series, "pswpout")


def _refaults_per_s(series: Series) -> Floats:
    """Return pages that had to be read again soon after they were thrown out.

    Counted for programs and files since Linux 5.9 (``include/linux/mmzone.h``).
    """
    return _rate(series, "workingset_refault_anon") + _rate(series, "workingset_refault_file")


def _rate(series: Series, word: str) -> Floats:
    nothing = np.zeros(len(series.machine.interval_s))
    rate: Floats = np.nan_to_num(series.machine.paging.get(word, nothing))
    return rate
