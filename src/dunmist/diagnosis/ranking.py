"""Who drives the limiting resource: each application's part in the strain, and its role."""

from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.confidence import confidence_of
from dunmist.diagnosis.core_services import CORE_SERVICES
from dunmist.diagnosis.lasting import lasting
from dunmist.diagnosis.one_core import Bound
from dunmist.diagnosis.rations import rationed_applications
from dunmist.diagnosis.records import Culprit, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import Resource, Role
from dunmist.series import Series
from dunmist.series.naming import distinct_name
from dunmist.series.rates import Floats

ROLE_ORDER: tuple[Role, ...] = ("cause", "symptom", "victim")
MOVED_LEAST_BYTES_PER_S = 10_000.0
WAITING_LEAST = 0.05


class Strain(NamedTuple):
    """The limiting resource, and the processes bound by one processor."""

    limiting: Resource
    bound: list[Bound]


def rank_culprits(
    series: Series, strain: Strain, coverage: float | None, limits: Thresholds
) -> list[Culprit]:
    """Return the ranked applications: causes by their part, then symptoms, then victims."""
    scores = _scores(series, strain, limits)
    table = limits["culprit"]
    roles = {
        number: _role(series, number, float(scores[number]), strain, limits)
        for number in range(len(scores))
    }
    ranked = [
        number
        for number, role in roles.items()
        if role == "victim" or (role != "observer" and scores[number] >= table["least_score"])
    ]
    ranked.sort(key=lambda number: (ROLE_ORDER.index(roles[number]), -scores[number]))
    causes = [float(scores[number]) for number in ranked if roles[number] == "cause"]
    if causes and causes[0] < table["least_first"]:
        return []  # many small ones: no single program is the cause
    return [
        Culprit(
            application=number,
            name=distinct_name(series, number),
            role=roles[number],
            score=float(scores[number]),
            confidence=confidence_of(
                float(scores[number]), causes, coverage, len(series.machine.interval_s), limits
            ),
            resources=_parts(series, number),
            signs=_signs(series, number, strain, limits, is_victim=roles[number] == "victim"),
        )
        for number in ranked[: int(table["most"])]
    ]


def _scores(series: Series, strain: Strain, limits: Thresholds) -> Floats:
    processes, interval_s = series.processes, series.machine.interval_s
    if strain.limiting == "core":
        full = np.zeros(len(processes.grouping.applications))
        for bound in strain.bound:
            full[bound.application] += bound.full_share
        return np.asarray(full / max(full.sum(), 1e-12), dtype=float)
    if strain.limiting == "memory":
        held = np.median(processes.private_bytes, axis=0)
        return np.asarray(held / max(held.sum(), 1e-12), dtype=float)
    if strain.limiting in ("disk", "link", "gpu"):
        moved = _moved(series, strain.limiting)
        return np.asarray(moved / max(moved.sum(), 1e-12), dtype=float)
    # what an application wanted is what it ran and what it waited for: on a full machine all get
    # less than they want, and the one that wants most crowds out the others
    waiting = processes.waiting * ~rationed_applications(series, limits)
    wanted_s = ((processes.all_cores + waiting) * interval_s[:, None]).sum(axis=0)
    # low-priority time makes nobody else wait for long
    weight = 1.0 - processes.low_priority * (1.0 - limits["cpu"]["low_priority_weight"])
    if strain.limiting == "heat":
        # but it heats like any other
        wanted_s = (processes.all_cores * interval_s[:, None]).sum(axis=0)
        return np.asarray(wanted_s / max(wanted_s.sum(), 1e-12), dtype=float)
    busy_s = float(((series.machine.busy_cores + waiting.sum(axis=1)) * interval_s).sum())
    return np.asarray(wanted_s * weight / max(busy_s, wanted_s.sum(), 1e-12), dtype=float)


def _moved(series: Series, resource: Resource) -> Floats:
    """Return what each application had of a disk, a link or a graphics card over the capture."""
    processes, each_s = series.processes, series.machine.interval_s[:, None]
    if resource == "disk":
        rates = processes.read_bytes_per_s + processes.write_bytes_per_s
        return np.asarray((rates * each_s).sum(axis=0), dtype=float)
    if resource == "link":
        rates = series.sent_bytes_per_s + series.received_bytes_per_s
        return np.asarray((rates * each_s).sum(axis=0), dtype=float)
    used = np.zeros(len(processes.grouping.applications))
    for identity, seconds in series.devices.graphics_s.items():
        used[processes.grouping.application_of[identity]] += seconds
    return used


def _role(series: Series, number: int, score: float, strain: Strain, limits: Thresholds) -> Role:
    application = series.processes.grouping.applications[number]
    table = limits["culprit"]
    if application.observer:
        return "observer"
    if application.kernel or application.unit in CORE_SERVICES:
        return "symptom"
    if strain.limiting in ("disk", "memory"):
        waits = _waits_for_disk(series, number, limits)
        return "victim" if waits and score < table["victim_score"] else "cause"
    if strain.limiting != "cpu":
        return "cause"
    share = limits["lasting"]["share"]
    interval_s = series.machine.interval_s
    waiting = lasting(series.processes.waiting[:, number], interval_s, share)
    running = lasting(series.processes.all_cores[:, number], interval_s, share)
    waits = waiting >= table["victim_waiting"] and waiting > running
    return "victim" if waits and score < table["victim_score"] else "cause"


def _waits_for_disk(series: Series, number: int, limits: Thresholds) -> bool:
    """Whether some process of an application waited for a disk for much of the time."""
    waiting = series.processes.io_waiting[:, number]
    usual = lasting(waiting, series.machine.interval_s, limits["lasting"]["share"])
    return usual >= limits["culprit"]["victim_io_waiting"]


def _parts(series: Series, number: int) -> dict[Resource, float]:
    machine, processes = series.machine, series.processes
    cpu_s = float((processes.all_cores[:, number] * machine.interval_s).sum())
    possible_s = float((machine.online * machine.interval_s).sum())
    total = float(np.nanmedian(machine.memory_bytes("MemTotal")))
    return {
        "cpu": min(1.0, cpu_s / possible_s),
        "memory": min(1.0, float(np.median(processes.private_bytes[:, number])) / total),
    }


def _signs(
    series: Series, number: int, strain: Strain, limits: Thresholds, *, is_victim: bool
) -> list[Sign]:
    machine, processes = series.machine, series.processes
    share = limits["lasting"]["share"]
    online = float(np.median(machine.online))
    cores = processes.all_cores[:, number]
    mean = float(np.average(cores, weights=machine.interval_s))
    signs = [
        Sign("app-cores", mean, "cores", "/proc/PID/stat", of=online),
        Sign(
            "app-cores-typical", lasting(cores, machine.interval_s, share), "cores",
            "/proc/PID/stat", of=online,
        ),
    ]  # fmt: skip
    bound = next((bound for bound in strain.bound if bound.application == number), None)
    if bound:
        name = f"process {processes.grouping.facts(bound.identity).pid}"
        signs.insert(
            0, Sign("app-full", bound.full_share, "share", "/proc/PID/schedstat", name=name)
        )
    short = float(np.average(processes.short_lived_cores[:, number], weights=machine.interval_s))
    if short >= 0.05:
        signs.append(Sign("app-short-lived", short, "cores", "/proc/PID/stat", of=online))
    waiting = float(np.average(processes.waiting[:, number], weights=machine.interval_s))
    # of a victim it is said what it waits for, and what not
    if waiting >= WAITING_LEAST or is_victim:
        signs.append(Sign("app-waiting", waiting, "tasks", "/proc/PID/schedstat"))
    io_waiting = float(np.average(processes.io_waiting[:, number], weights=machine.interval_s))
    if io_waiting >= WAITING_LEAST or is_victim:
        key = "app-page-waiting" if strain.limiting == "memory" else "app-io-waiting"
        signs.append(Sign(key, io_waiting, "tasks", "/proc/PID/stat"))
    if is_victim:
        for kind, counts in processes.blocked.items():
            mean = float(counts[:, number].mean())
            if mean > 0:
                signs.append(Sign(f"app-blocked-{kind}", mean, "tasks", "/proc/PID/wchan"))
    for key, rates, source in (
        ("app-disk", processes.read_bytes_per_s + processes.write_bytes_per_s, "/proc/PID/io"),
        ("app-link", series.sent_bytes_per_s + series.received_bytes_per_s, "sock_diag(7)"),
    ):
        moved = float(np.average(rates[:, number], weights=machine.interval_s))
        if moved >= MOVED_LEAST_BYTES_PER_S:
            signs.append(Sign(key, moved, "bytes/s", source))
    held = float(np.median(processes.private_bytes[:, number]))
    total = float(np.nanmedian(machine.memory_bytes("MemTotal")))
    signs.append(Sign("app-memory", held, "bytes", "/proc/PID/statm", of=total))
    return signs
