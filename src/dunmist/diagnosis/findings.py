"""Things that are wrong or notable, each by one small rule with its figure in the table."""

from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.lasting import lasting
from dunmist.diagnosis.one_core import Bound
from dunmist.diagnosis.records import Culprit, Finding, ResourceState, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import SEVERITIES, is_strained
from dunmist.series import Series


class Known(NamedTuple):
    """What is known already: processes bound by one processor, and the ranked applications."""

    bound: list[Bound]
    culprits: list[Culprit]


def find_findings(
    series: Series, states: list[ResourceState], known: Known, limits: Thresholds
) -> list[Finding]:
    """Return all findings, the most severe first."""
    found = [
        *_core_bound(series, known.bound),
        *_processor_use(series, known, limits),
        *_spawn_storm(series, limits),
        *_memory_held(series, limits),
        *_memory_short(states),
        *_stolen_time(series, limits),
        *_process_states(series, limits),
        *_uptime(series, limits),
    ]
    return sorted(found, key=lambda finding: -SEVERITIES.index(finding.severity))


def _name(series: Series, number: int) -> str:
    return series.processes.grouping.applications[number].name


def _core_bound(series: Series, bound: list[Bound]) -> list[Finding]:
    return [
        Finding(
            "core-bound",
            "concern",
            series.processes.grouping.program(one.identity).name,
            [Sign("app-full", one.full_share, "share", "/proc/PID/schedstat",
                  name=f"process {series.processes.grouping.facts(one.identity).pid}")],
            application=one.application,
        )
        for one in bound
    ]  # fmt: skip


def _processor_use(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    table, processes, machine = limits["findings"], series.processes, series.machine
    online = float(np.median(machine.online))
    bound = {one.application for one in known.bound}
    ranked = {one.application for one in known.culprits}
    found = []
    for number, application in enumerate(processes.grouping.applications):
        if application.observer or application.kernel or number in bound:
            continue
        cores = processes.all_cores[:, number]
        typical = lasting(cores, machine.interval_s, limits["lasting"]["share"])
        least = lasting(cores, machine.interval_s, limits["core"]["bound_share"])
        signs = [Sign("app-cores-typical", typical, "cores", "/proc/PID/stat", of=online)]
        low = float(processes.low_priority[number])
        if low >= limits["cpu"]["low_priority_share"]:
            signs.append(Sign("app-low-priority", low, "share", "/proc/PID/stat"))
        elif typical / online >= table["cpu_hog"]:
            found.append(Finding("cpu-hog", "concern", application.name, signs, number))
            continue
        if number in ranked:
            continue
        if least >= max(table["steady_cores"], table["steady_spread"] * typical):
            found.append(Finding("steady-background", "note", application.name, signs, number))
    return found


def _spawn_storm(series: Series, limits: Thresholds) -> list[Finding]:
    table, machine = limits["findings"], series.machine
    share = limits["lasting"]["share"]
    forks = lasting(machine.forks_per_s, machine.interval_s, share)
    if forks < table["spawn_forks_per_s"]:
        return []
    short = np.average(series.processes.short_lived_cores, axis=0, weights=machine.interval_s)
    if not len(short) or short.max() < table["spawn_cores"]:
        return []
    number = int(np.argmax(short))
    signs = [
        Sign("forks", forks, "per second", "/proc/stat"),
        Sign("app-short-lived", float(short[number]), "cores", "/proc/PID/stat",
             of=float(np.median(machine.online))),
    ]  # fmt: skip
    return [Finding("spawn-storm", "concern", _name(series, number), signs, number)]


def _memory_held(series: Series, limits: Thresholds) -> list[Finding]:
    total = float(np.nanmedian(series.machine.memory_bytes("MemTotal")))
    held = np.median(series.processes.private_bytes, axis=0)
    return [
        Finding(
            "memory-hog",
            "concern",
            _name(series, int(number)),
            [Sign("app-memory", float(held[number]), "bytes", "/proc/PID/statm", of=total)],
            int(number),
        )
        for number in np.flatnonzero(held >= limits["findings"]["memory_hog"] * total)
    ]


def _memory_short(states: list[ResourceState]) -> list[Finding]:
    return [
        Finding("memory-short", "urgent" if state.level == "choked" else "concern", "memory",
                state.signs)
        for state in states
        if state.resource == "memory" and is_strained(state.level)
    ]  # fmt: skip


def _stolen_time(series: Series, limits: Thresholds) -> list[Finding]:
    stolen = np.nanmean(series.machine.kind_of_time("steal"), axis=1)
    typical = lasting(stolen, series.machine.interval_s, limits["lasting"]["share"])
    if typical < limits["findings"]["stolen"]:
        return []
    sign = Sign("cpu-steal", typical, "share", "/proc/stat")
    return [Finding("stolen-time", "concern", "processor", [sign])]


def _process_states(series: Series, limits: Thresholds) -> list[Finding]:
    processes = series.processes
    alive = {
        identity: sample
        for identity, sample in processes.last.items()
        if identity not in processes.ended_tick
    }
    found = []
    defunct = sum(sample.state == "Z" for sample in alive.values())
    if defunct >= limits["findings"]["defunct"]:
        sign = Sign("defunct", float(defunct), "processes", "/proc/PID/stat")
        found.append(Finding("defunct-pile", "note", "processes", [sign]))
    for identity, sample in alive.items():
        if sample.state in ("D", "T", "t") and processes.process_cpu_s[identity] == 0:
            facts = processes.grouping.facts(identity)
            unchanged = processes.first_tick.get(identity) == 0
            if facts.kernel or not unchanged or (sample.state == "D" and series.ticks < 5):
                continue
            sign = Sign(f"state-{sample.state.upper()}", float(facts.pid), "process number",
                        "/proc/PID/stat")  # fmt: skip
            number = processes.grouping.application_of[identity]
            name = processes.grouping.program(identity).name
            found.append(Finding("stuck-process", "concern", name, [sign], number))
    return found


def _uptime(series: Series, limits: Thresholds) -> list[Finding]:
    uptime_s = series.machine.uptime_s
    if np.isnan(uptime_s):
        return []
    sign = Sign("uptime", uptime_s, "s", "/proc/uptime")
    if uptime_s < limits["findings"]["recent_restart_s"]:
        return [Finding("recent-restart", "note", "computer", [sign])]
    if uptime_s > limits["findings"]["long_uptime_s"]:
        return [Finding("long-uptime", "note", "computer", [sign])]
    return []
