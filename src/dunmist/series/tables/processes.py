"""Topic ``processes``: applications, and single processes with all that is known of them."""

import re

import numpy as np
import pandas as pd

from dunmist.applications import unit_of
from dunmist.computer import DELETED
from dunmist.series.load import Series
from dunmist.series.tables._frames import frame_of, mean

# sched(7)
POLICIES = {0: "normal", 1: "first-in first-out", 2: "round robin", 3: "batch", 5: "idle",
            6: "deadline"}  # fmt: skip
# how container engines name the group of a container
CONTAINER = re.compile(r"(?:docker|libpod|crio|cri-containerd|lxc[./]payload|machine)"
                       r"[-/.]([\w.-]{1,64}?)(?:\.scope)?(?:/|\Z)")  # fmt: skip
UNIX_98_MAJORS = range(136, 144)  # Documentation/admin-guide/devices.txt


def application_table(series: Series) -> pd.DataFrame:
    """Return one row for each application, the greatest use first."""
    processes = series.processes
    weights = series.machine.interval_s
    online = float(np.median(series.machine.online))
    rows = []
    for number, application in enumerate(processes.grouping.applications):
        cores = processes.all_cores[:, number]
        facts = [processes.grouping.facts(member) for member in application.members]
        typical = float(np.average(cores, weights=weights))
        rows.append(
            {
                "application": application.name,
                "processes": len(facts),
                "users": " ".join(sorted({fact.user or "unknown" for fact in facts})),
                "unit": application.unit,
                "cores_mean": typical,
                "cores_median": float(np.median(cores)),
                "cores_max": float(cores.max()),
                "machine_share": typical / online,
                "short_lived_cores": mean(processes.short_lived_cores[:, number], weights),
                "waiting_tasks": mean(processes.waiting[:, number], weights),
                "private_bytes": float(np.median(processes.private_bytes[:, number])),
                "rss_bytes": float(np.median(processes.rss_bytes[:, number])),
                "read_bytes_per_s": mean(processes.read_bytes_per_s[:, number], weights),
                "write_bytes_per_s": mean(processes.write_bytes_per_s[:, number], weights),
                "sent_bytes_per_s": mean(series.sent_bytes_per_s[:, number], weights),
                "received_bytes_per_s": mean(series.received_bytes_per_s[:, number], weights),
                "io_waiting_tasks": mean(processes.io_waiting[:, number], weights),
                "short_lived_programs": _counted(processes.short_lived_programs.get(number, {})),
                "major_faults_per_s": mean(processes.major_faults_per_s[:, number], weights),
                "observer": application.observer,
            }
        )
    return pd.DataFrame(rows).sort_values("cores_mean", ascending=False, ignore_index=True)


def process_table(series: Series) -> pd.DataFrame:
    """Return one row for each process identity, the greatest use first."""
    processes, grouping = series.processes, series.processes.grouping
    about = series.header.machine
    online = float(np.median(series.machine.online))
    rollups = {one.process: one for survey in series.surveys for one in survey.rollups}
    packages = {one.executable: one.name for survey in series.surveys for one in survey.packages}
    rows = []
    for identity, sample in processes.last.items():
        facts = grouping.facts(identity)
        application = grouping.applications[grouping.application_of[identity]]
        cpu_s = float(processes.process_cpu_s[identity])
        detail = processes.details.get(identity, (None, None))[1]
        rollup = rollups.get(identity)
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
                "executable_deleted": (facts.executable or "").endswith(DELETED),
                "package": packages.get(facts.executable or ""),
                "unit": unit_of(facts.cgroup),
                "container": container_of(facts.cgroup),
                "cgroup": facts.cgroup,
                "login_user": _user_name(series, facts.login_uid),
                "terminal": terminal_name(facts.tty),
                "scheduling": POLICIES.get(facts.policy),
                "started_s": _started_s(series, facts.start_clk),
                "minor_faults": sample.minor_faults,
                "major_faults": sample.major_faults,
                "io_waited_s": sample.io_delay_clk / about.clock_ticks_per_s,
                "read_bytes": sample.read_bytes,
                "write_bytes": sample.write_bytes,
                "descriptors": detail.descriptors if detail else None,
                "descriptor_limit": detail.descriptor_limit if detail else None,
                "swap_bytes": _kib(detail.swap_kib if detail else None),
                "waits_in": sample.waits_in or (detail.waits_in if detail else None),
                "proportional_bytes": _kib(rollup.pss_kib if rollup else None),
                "locked_bytes": _kib(rollup.locked_kib if rollup else None),
                "graphics_s": series.devices.graphics_s.get(identity),
            }
        )
    return pd.DataFrame(rows).sort_values("cores_mean", ascending=False, ignore_index=True)


def thread_table(series: Series) -> pd.DataFrame:
    """Return one row for each thread of the few busiest processes, the busiest first."""
    grouping = series.processes.grouping
    rows: list[dict[str, object]] = [
        {
            "pid": grouping.facts(one.process).pid,
            "program": grouping.program(one.process).name,
            "tid": one.tid,
            "thread": one.name,
            "cores_mean": one.run_s / series.duration_s,
            "waiting_tasks": one.delay_s / series.duration_s,
        }
        for one in series.processes.threads
    ]
    return frame_of(rows, "cores_mean")


def container_of(cgroup: str | None) -> str | None:
    """Return the container that a control group belongs to, None for none."""
    match = CONTAINER.search(cgroup or "")
    return match[1][:12] if match else None


def terminal_name(tty: int) -> str | None:
    """Return the name of a controlling terminal, None without one (proc_pid_stat(5))."""
    major, minor = (tty >> 8) & 0xFFF, (tty & 0xFF) | ((tty >> 12) & 0xFFF00)
    if tty <= 0:
        return None
    if major in UNIX_98_MAJORS:
        return f"pts/{minor + 256 * (major - UNIX_98_MAJORS.start)}"
    if major == 4:
        return f"tty{minor}" if minor < 64 else f"ttyS{minor - 64}"
    return f"{major}:{minor}"


def _user_name(series: Series, uid: int | None) -> str | None:
    if uid is None:
        return None
    grouping = series.processes.grouping
    known = (grouping.facts(identity) for identity in series.processes.last)
    return next((one.user for one in known if one.uid == uid and one.user), str(uid))


def _started_s(series: Series, start_clk: int) -> float | None:
    about = series.header.machine
    if about.boot_time_s is None:
        return None
    return about.boot_time_s + start_clk / about.clock_ticks_per_s


def _kib(amount: int | None) -> float | None:
    return None if amount is None else amount * 1024.0


def _counted(programs: dict[str, int]) -> str | None:
    most = sorted(programs.items(), key=lambda item: -item[1])[:5]
    return " ".join(f"{name}:{count}" for name, count in most) or None
