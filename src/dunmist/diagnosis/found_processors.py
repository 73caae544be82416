"""Findings about processors: who fills them, and what takes them away."""

from collections import defaultdict

import numpy as np

from dunmist.diagnosis.known import Known, application_finding, online, typical
from dunmist.diagnosis.lasting import lasting
from dunmist.diagnosis.one_core import Bound
from dunmist.diagnosis.rations import find_rations
from dunmist.diagnosis.records import Finding, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.series import Series


def processor_findings(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    """Return them."""
    return [
        *_core_bound(series, known.bound),
        *_use(series, known, limits),
        *_spawn_storm(series, limits),
        *_thread_swarm(series, known, limits),
        *_stolen_time(series, limits),
        *_interrupts(series, limits),
        *_kernel(series, limits),
        *_quotas(series, limits),
        *_low_clock(series, known, limits),
    ]


def _core_bound(series: Series, bound: list[Bound]) -> list[Finding]:
    grouping = series.processes.grouping
    by_application: dict[int, list[Bound]] = defaultdict(list)
    for one in bound:
        by_application[one.application].append(one)
    return [
        Finding(
            "core-bound",
            "concern",
            grouping.program(same[0].identity).name,
            [Sign("app-full", one.full_share, "share", "/proc/PID/schedstat",
                  name=f"process {grouping.facts(one.identity).pid}") for one in same[:3]],
            application=number,
        )
        for number, same in by_application.items()
    ]  # fmt: skip


def _use(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    table, processes, machine = limits["findings"], series.processes, series.machine
    bound, processors = {one.application for one in known.bound}, online(series)
    found = []
    for number, application in enumerate(processes.grouping.applications):
        if application.observer or application.kernel or number in bound:
            continue
        cores = processes.all_cores[:, number]
        if cores.max() < table["steady_cores"]:
            continue
        usual = typical(series, cores, limits)
        least = lasting(cores, machine.interval_s, limits["core"]["bound_share"])
        signs = [Sign("app-cores-typical", usual, "cores", "/proc/PID/stat", of=processors)]
        low = float(processes.low_priority[number])
        if low >= limits["cpu"]["low_priority_share"]:
            signs.append(Sign("app-low-priority", low, "share", "/proc/PID/stat"))
        elif usual / processors >= table["cpu_hog"]:
            found.append(application_finding("cpu-hog", "concern", series, number, signs))
            continue
        if least >= max(table["steady_cores"], table["steady_spread"] * usual):
            found.append(application_finding("steady-background", "note", series, number, signs))
    return found


def _spawn_storm(series: Series, limits: Thresholds) -> list[Finding]:
    table, machine = limits["findings"], series.machine
    forks = typical(series, machine.forks_per_s, limits)
    if forks < table["spawn_forks_per_s"]:
        return []
    short = np.average(series.processes.short_lived_cores, axis=0, weights=machine.interval_s)
    if not len(short) or short.max() < table["spawn_cores"]:
        return []
    number = int(np.argmax(short))
    signs = [
        Sign("forks", forks, "per second", "/proc/stat"),
        Sign("app-short-lived", float(short[number]), "cores", "/proc/PID/stat",
             of=online(series)),
    ]  # fmt: skip
    return [application_finding("spawn-storm", "concern", series, number, signs)]


def _thread_swarm(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    processes = series.processes
    found = []
    for identity, sample in processes.last.items():
        number = processes.grouping.application_of[identity]
        waits = typical(series, processes.waiting[:, number], limits)
        many = sample.threads >= limits["findings"]["thread_swarm"]
        if many and known.is_strained("cpu") and waits >= 1.0:
            signs = [
                Sign("threads", float(sample.threads), "threads", "/proc/PID/stat"),
                Sign("app-waiting", waits, "tasks", "/proc/PID/schedstat"),
            ]
            found.append(application_finding("thread-swarm", "concern", series, number, signs))
    return found


def _stolen_time(series: Series, limits: Thresholds) -> list[Finding]:
    stolen = np.nanmean(series.machine.kind_of_time("steal"), axis=1)
    usual = typical(series, stolen, limits)
    if usual < limits["findings"]["stolen"]:
        return []
    return [
        Finding("stolen-time", "concern", "processor",
                [Sign("cpu-steal", usual, "share", "/proc/stat")])
    ]  # fmt: skip


def _interrupts(series: Series, limits: Thresholds) -> list[Finding]:
    shares = series.machine.kind_of_time("irq", "softirq")
    usual = [typical(series, column, limits) for column in shares.T]
    fullest = int(np.argmax(usual))
    if usual[fullest] < limits["findings"]["interrupts"]:
        return []
    name = f"cpu{series.machine.numbers[fullest]}"
    signs = [Sign("interrupt-share", usual[fullest], "share", "/proc/stat", name=name)]
    sources = series.devices.interrupts
    if sources:
        source, count = max(sources.items(), key=lambda item: item[1])
        rate = count / series.duration_s
        signs.append(Sign("interrupt-source", rate, "per second", "/proc/interrupts", name=source))
    return [Finding("interrupt-storm", "urgent", name, signs)]


def _kernel(series: Series, limits: Thresholds) -> list[Finding]:
    processes = series.processes
    found = []
    for number, application in enumerate(processes.grouping.applications):
        if not application.kernel:
            continue
        usual = typical(series, processes.all_cores[:, number], limits)
        if usual >= limits["findings"]["kernel_cores"]:
            sign = Sign("app-cores-typical", usual, "cores", "/proc/PID/stat", of=online(series))
            found.append(application_finding("kernel-busy", "concern", series, number, [sign]))
    return found


def _quotas(series: Series, limits: Thresholds) -> list[Finding]:
    found = []
    for ration in find_rations(series, limits):
        signs = [
            Sign("quota-limited", ration.limited, "share", "cpu.stat"),
            Sign("quota", ration.quota_cores, "cores", "cpu.max", of=online(series)),
        ]
        subject = ration.path.rpartition("/")[2] or ration.path
        found.append(Finding("quota-limited", "concern", subject, signs))
    return found


def _low_clock(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    table = limits["heat"]
    clocks = series.machine.clocks_hz
    places = [one.max_khz for one in series.header.machine.processors if one.max_khz]
    if clocks is None or not places or known.is_strained("heat"):
        return []
    most = max(places) * 1e3
    busy = series.machine.busy >= table["busy_processor"]
    ratio = np.where(busy, clocks[1:] / most, np.nan)
    rows = np.array([np.nan if np.isnan(row).all() else float(np.nanmax(row)) for row in ratio])
    usual = typical(series, rows, limits)
    if np.isnan(rows).all() or usual > table["low_clock"]:
        return []
    sign = Sign("low-clock", usual, "share", "/sys/devices/system/cpu/*/cpufreq", of=most / 1e6)
    return [Finding("low-clock", "urgent", "processor", [sign])]
