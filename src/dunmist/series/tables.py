"""Tables of a capture for people and other programs, as pandas frames.

Column names carry their unit and stay as they are; ``docs/views.md`` lists them. Shares are from 0
to 1, ``cores`` are logical processors in use.
"""

import numpy as np
import pandas as pd

from dunmist.series.load import Series
from dunmist.series.memory_breakdown import memory_breakdown
from dunmist.series.rates import Floats


def application_table(series: Series) -> pd.DataFrame:
    """Return one row for each application, the greatest use first."""
    processes = series.processes
    weights = series.machine.interval_s
    online = float(np.median(series.machine.online))
    rows = []
    for number, application in enumerate(processes.grouping.applications):
        cores = processes.all_cores[:, number]
        facts = [processes.grouping.facts(member) for member in application.members]
        mean = float(np.average(cores, weights=weights))
        rows.append(
            {
                "application": application.name,
                "processes": len(facts),
                "users": " ".join(sorted({fact.user or "unknown" for fact in facts})),
                "unit": application.unit,
                "cores_mean": mean,
                "cores_median": float(np.median(cores)),
                "cores_max": float(cores.max()),
                "machine_share": mean / online,
                "short_lived_cores": _mean(processes.short_lived_cores[:, number], weights),
                "waiting_tasks": _mean(processes.waiting[:, number], weights),
                "private_bytes": float(np.median(processes.private_bytes[:, number])),
                "rss_bytes": float(np.median(processes.rss_bytes[:, number])),
                "major_faults_per_s": _mean(processes.major_faults_per_s[:, number], weights),
                "observer": application.observer,
            }
        )
    return pd.DataFrame(rows).sort_values("cores_mean", ascending=False, ignore_index=True)


def process_table(series: Series) -> pd.DataFrame:
    """Return one row for each process identity, the greatest use first."""
    processes, grouping = series.processes, series.processes.grouping
    about = series.header.machine
    online = float(np.median(series.machine.online))
    rows = []
    for identity, sample in processes.last.items():
        facts = grouping.facts(identity)
        application = grouping.applications[grouping.application_of[identity]]
        cpu_s = float(processes.process_cpu_s[identity])
        rows.append(
            {
                "pid": facts.pid,
                "program": grouping.program(identity).name,
                "application": application.name,
                "user": facts.user,
                "state": sample.state if identity not in processes.ended_tick else "ended",
                "parent_pid": facts.ppid,
                "threads": sample.threads,
                "nice": sample.nice,
                "cores_mean": cpu_s / series.duration_s,
                "machine_share": cpu_s / series.duration_s / online,
                "cpu_s": cpu_s,
                "rss_bytes": sample.rss_pages * about.page_bytes,
                "private_bytes": (sample.rss_pages - (sample.shared_pages or 0)) * about.page_bytes,
                "command_line": " ".join(facts.command_line) or None,
                "executable": facts.executable,
                "cgroup": facts.cgroup,
            }
        )
    return pd.DataFrame(rows).sort_values("cores_mean", ascending=False, ignore_index=True)


def core_table(series: Series) -> pd.DataFrame:
    """Return one row for each logical processor."""
    machine = series.machine
    places = {one.number: one for one in series.header.machine.processors}
    busy = machine.busy
    rows = []
    for column, number in enumerate(machine.numbers):
        place = places.get(number)
        clock = None if machine.clocks_hz is None else machine.clocks_hz[:, column]
        row = {
            "cpu": number,
            "core": place.core if place else None,
            "package": place.package if place else None,
            "busy_mean": _mean(busy[:, column], machine.interval_s),
            "busy_median": float(np.nanmedian(busy[:, column])),
            "busy_max": float(np.nanmax(busy[:, column])),
        }
        for kind in ("user", "nice", "system", "iowait", "irq", "softirq", "steal"):
            row[kind] = _mean(machine.kind_of_time(kind)[:, column], machine.interval_s)
        row["clock_hz"] = None if clock is None else float(np.nanmedian(clock))
        rows.append(row)
    return pd.DataFrame(rows)


def memory_table(series: Series) -> pd.DataFrame:
    """Return the parts of the installed memory at the end of the capture; they add up to it."""
    total = float(series.machine.memory_bytes("MemTotal")[-1])
    rows = [
        {
            "part": part,
            "bytes": float(held[-1]),
            "share": float(held[-1]) / total,
            "change_bytes": float(held[-1] - held[0]),
        }
        for part, held in memory_breakdown(series.machine).items()
    ]
    rows.append({"part": "installed", "bytes": total, "share": 1.0, "change_bytes": 0.0})
    return pd.DataFrame(rows)


def machine_table(series: Series) -> pd.DataFrame:
    """Return what the computer is and how it was sampled, one fact a row."""
    header, machine = series.header, series.machine
    about = header.machine
    packages = {one.package for one in about.processors if one.package is not None}
    cores = {(one.package, one.core) for one in about.processors if one.core is not None}
    own_s = float(machine.own_cpu_s[-1] - machine.own_cpu_s[0])
    facts = {
        "host": about.host,
        "distribution": about.distribution,
        "kernel": about.kernel,
        "processor_model": about.model,
        "packages": len(packages) or None,
        "physical_cores": len(cores) or None,
        "logical_processors": len(about.processors),
        "nominal_clock_hz": about.nominal_mhz * 1e6 if about.nominal_mhz else None,
        "max_clock_hz": max((one.max_khz or 0 for one in about.processors), default=0) * 1e3
        or None,
        "memory_bytes": about.memory_bytes,
        "uptime_s": None if np.isnan(machine.uptime_s) else machine.uptime_s,
        "note": header.note,
        "started": header.started,
        "duration_s": series.duration_s,
        "ticks": series.ticks,
        "ticks_missed": series.missed,
        "ticks_late": series.late,
        "privileged": header.privileged,
        "own_cores": own_s / series.duration_s if header.live else None,
        "own_rss_bytes": float(machine.own_rss_bytes[-1]) if header.live else None,
    }
    frame = pd.DataFrame({"fact": list(facts), "value": list(facts.values())}, dtype=object)
    return frame


def _mean(values: Floats, weights: Floats) -> float:
    known = ~np.isnan(values)
    return float(np.average(values[known], weights=weights[known])) if known.any() else 0.0
