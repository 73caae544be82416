"""Resource ``cpu``: are the logical processors together too few for the work?"""

from collections.abc import Mapping

import numpy as np

from dunmist.diagnosis.lasting import lasting, lasting_level, trace_of
from dunmist.diagnosis.rations import rationed_applications
from dunmist.diagnosis.records import ResourceState, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import Level
from dunmist.series import Series
from dunmist.series.rates import Floats

SPLIT_SHOWN = ("user", "nice", "system", "iowait", "irq", "softirq", "steal")
SPLIT_LEAST = 0.02


def judge_cpu(series: Series, limits: Thresholds) -> ResourceState:
    """Return the state of all logical processors together."""
    machine, table = series.machine, limits["cpu"]
    share = limits["lasting"]["share"]
    # what a hypervisor took was never this computer's to give
    stolen = np.nansum(machine.kind_of_time("steal"), axis=1)
    used = np.minimum(1.0, machine.busy_cores / np.maximum(machine.online - stolen, 1e-6))
    # low-priority work gives way to all other, and rationed work waits for its quota
    ordinary = series.processes.low_priority < table["low_priority_share"]
    ordinary &= ~rationed_applications(series, limits)
    waiting: Floats = series.processes.waiting[:, ordinary].sum(axis=1)
    pressure, source = waiting_share(series, waiting)
    held_up = held_up_share(series, waiting, all_ordinary=bool(ordinary.all()))
    met: dict[Level, Floats] = {
        "busy": (used >= table["busy"]).astype(float),
        "strained": _held(used, pressure, held_up, table, "strained"),
        "choked": _held(used, pressure, held_up, table, "choked"),
    }
    level = lasting_level(met, machine.interval_s, share)
    typical = lasting(used, machine.interval_s, share)
    typical_pressure = lasting(pressure, machine.interval_s, share)
    processors = float(np.median(machine.online))
    load = float(np.nanmedian(machine.load_one)) if not np.isnan(machine.load_one).all() else None
    signs = [
        Sign("cpu-used", typical, "share", "/proc/stat", of=processors),
        Sign("cpu-pressure", typical_pressure, "share", source),
        Sign(
            "cpu-held-up",
            lasting(held_up, machine.interval_s, share),
            "share",
            "/proc/PID/schedstat, /proc/stat",
        ),
    ]
    if load is not None:
        signs.append(
            Sign("load-per-processor", load / processors, "tasks", "/proc/loadavg", of=load)
        )
    for kind in SPLIT_SHOWN:
        part = float(np.nanmean(machine.kind_of_time(kind)))
        if part >= SPLIT_LEAST:
            signs.append(Sign(f"cpu-{kind}", part, "share", "/proc/stat"))
    trace = trace_of(used, pressure, met)
    return ResourceState("cpu", level, typical, typical_pressure, signs, trace=trace)


def waiting_share(series: Series, ordinary: Floats) -> tuple[Floats, str]:
    """Return the share of time in which ordinary work waited for a processor, and its source.

    The kernel counts other work that waits as well; it is taken out in proportion to the run-queue
    delay, of which ``ordinary`` is what ordinary work had.
    """
    waiting = series.processes.waiting.sum(axis=1)
    part = np.divide(ordinary, waiting, out=np.ones_like(waiting), where=waiting > 1e-3)
    stalled = series.machine.stalled.get("cpu")
    if stalled is not None:
        return stalled * part, "/proc/pressure/cpu"
    # without stall accounting: more tasks that could run than processors means that one waits,
    # which is also true of those too short-lived to be seen
    crowded = _queue(series) > series.machine.online
    return np.maximum(np.minimum(ordinary, 1.0), crowded), "/proc/PID/schedstat, /proc/stat"


def held_up_share(series: Series, waiting: Floats, *, all_ordinary: bool) -> Floats:
    """Return the share of the wanted processor time that was spent waiting, in each interval.

    Run-queue delay tells it for processes that live long enough to be seen; the mean length of the
    run queue tells it for a storm of short-lived ones, where all work is ordinary. The greater of
    the two counts.
    """
    machine = series.machine
    by_delay = waiting / (waiting + np.maximum(machine.busy_cores, 1e-9))
    if not all_ordinary:
        return by_delay
    queue = _queue(series)
    if np.isnan(queue).all():
        return by_delay
    mean = float(np.nanmean(queue))
    beyond = max(0.0, mean - float(machine.online.mean())) / max(mean, 1.0)
    return np.maximum(by_delay, beyond)


def _queue(series: Series) -> Floats:
    """Return the tasks that ran or waited at the end of each interval, the sampler left out."""
    own = 1 if series.header.observer else 0
    return np.maximum(series.machine.runnable[1:] - own, 0.0)


def _held(
    used: Floats, pressure: Floats, held_up: Floats, table: Mapping[str, float], level: str
) -> Floats:
    met = (
        (used >= table[f"{level}_used"])
        & (pressure >= table[f"{level}_pressure"])
        & (held_up >= table[f"{level}_held_up"])
    )
    return met.astype(float)
