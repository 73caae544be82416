"""Resource ``core``: does a program hang on the one logical processor that it can use?"""

from collections import Counter
from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.lasting import lasting, trace_of
from dunmist.diagnosis.rations import rationed_applications
from dunmist.diagnosis.records import ResourceState, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import Level
from dunmist.series import Series
from dunmist.series.rates import Floats

# of an interval that was stolen nearly whole nothing can be said
LEFT_LEAST = 0.25


class Bound(NamedTuple):
    """A process of which one thread keeps a processor full."""

    identity: int
    application: int
    typical: float
    full_share: float


def find_bound(series: Series, limits: Thresholds) -> list[Bound]:
    """Return the processes bound by one processor, the fullest first.

    It follows the process, not the processor: the scheduler may move it about. Low-priority work,
    what has a quota that runs out, the kernel's own tasks and the sampler are left out.
    """
    table, processes = limits["core"], series.processes
    given, interval_s = _given(series), series.machine.interval_s
    crowded = series.machine.busy_cores / series.machine.online >= limits["cpu"]["strained_used"]
    rationed = rationed_applications(series, limits)
    found = []
    for identity, thread in processes.one_core.items():
        number = processes.grouping.application_of[identity]
        application = processes.grouping.applications[number]
        low = processes.low_priority[number] >= limits["cpu"]["low_priority_share"]
        if application.observer or application.kernel or low or rationed[number]:
            continue
        waited = thread.wanted - thread.ran
        # who waits while processors are free waits for its quota, which no processor mends
        waited = np.where(crowded, waited, np.minimum(waited, table["waited_most"]))
        share = _smooth((thread.ran + waited) / given, interval_s, table["least_s"])
        full = float(np.average(share >= table["full"], weights=interval_s))
        ran = lasting(thread.ran / given, interval_s, limits["lasting"]["share"])
        if full >= table["bound_share"] and ran >= table["ran_least"]:
            typical = min(1.0, lasting(share, interval_s, limits["lasting"]["share"]))
            found.append(Bound(identity, number, typical, full))
    # a program that fills many processors at once is not bound by one of them
    online = float(np.median(series.machine.online))
    filled = Counter(bound.application for bound in found)
    many = max(table["many_least"], table["many_share"] * online)
    single = [bound for bound in found if filled[bound.application] < many]
    return sorted(single, key=lambda bound: (-bound.full_share, -bound.typical))


def _given(series: Series) -> Floats:
    """Return the share of each interval that the hypervisor left to the fullest processor.

    Stolen time counts neither as a thread's running nor as its waiting.
    """
    stolen = np.nan_to_num(series.machine.kind_of_time("steal"))
    fullest = np.argmax(np.nan_to_num(series.machine.busy) + stolen, axis=1)
    left: Floats = 1.0 - np.take_along_axis(stolen, fullest[:, None], axis=1)[:, 0]
    return np.maximum(left, LEFT_LEAST)


def _smooth(share: Floats, interval_s: Floats, least_s: float) -> Floats:
    """Return the mean over a stretch of at least ``least_s`` around each interval.

    A process is read some milliseconds sooner or later within a tick, which in a short interval is
    as much as the margin between full and not full.
    """
    reach = max(0, round((least_s / float(np.median(interval_s)) - 1) / 2))
    if not reach:
        return share
    kernel = np.ones(2 * reach + 1)
    summed = np.convolve(share * interval_s, kernel, mode="full")[reach:-reach]
    over_s = np.convolve(interval_s, kernel, mode="full")[reach:-reach]
    mean: Floats = summed / over_s
    return mean


def judge_core(series: Series, bound: list[Bound], limits: Thresholds) -> ResourceState:
    """Return the state of the fullest single processor, as its program sees it."""
    machine = series.machine
    share = limits["lasting"]["share"]
    busiest = [lasting(column, machine.interval_s, share) for column in machine.busy.T]
    fullest = int(np.argmax(busiest))
    name = f"cpu{machine.numbers[fullest]}"
    signs = [Sign("core-busiest", busiest[fullest], "share", "/proc/stat", name=name)]
    used = np.nan_to_num(machine.busy).max(axis=1)
    met: dict[Level, Floats] = {"busy": (used >= limits["core"]["busy"]).astype(float)}
    if not bound:
        level: Level = "busy" if busiest[fullest] >= limits["core"]["busy"] else "calm"
        trace = trace_of(used, None, met)
        return ResourceState("core", level, busiest[fullest], 0.0, signs, name=name, trace=trace)
    first = bound[0]
    facts = series.processes.grouping.facts(first.identity)
    program = series.processes.grouping.program(first.identity).name
    signs.insert(
        0,
        Sign("core-full", first.typical, "share", f"/proc/{facts.pid}/schedstat", name=program),
    )
    full = series.processes.one_core[first.identity].wanted
    met["strained"] = (full >= limits["core"]["full"]).astype(float)
    return ResourceState(
        "core", "strained", first.typical, first.full_share, signs, name=program,
        trace=trace_of(np.maximum(used, full), full, met),
    )  # fmt: skip
