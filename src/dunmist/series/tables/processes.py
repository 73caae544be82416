"""Topic ``processes``: applications, and single processes with all that is known of them."""

import re
from collections import defaultdict

import numpy as np
import pandas as pd

from dunmist.applications import unit_of
from dunmist.computer import DELETED
from dunmist.series.curves import curve
from dunmist.series.load import Series
from dunmist.series.rates import NS_PER_S, Floats
from dunmist.series.tables._frames import frame_of, mean

CURVE_POINTS = 12
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
    ports = ports_of_each(series)
    rows: list[dict[str, object]] = []
    for number, application in enumerate(processes.grouping.applications):
        cores = processes.all_cores[:, number]
        facts = [processes.grouping.facts(member) for member in application.members]
        typical = float(np.average(cores, weights=weights))
        rows.append(
            {
                "application": application.name,
                "application_number": number,
                "processes": len(facts),
                "users": " ".join(sorted({fact.user or "unknown" for fact in facts})),
                "unit": application.unit,
                "cores_mean": typical,
                "cores_median": float(np.median(cores)),
                "cores_max": float(cores.max()),
                "cores_curve": curve(cores, CURVE_POINTS),
                "machine_share": typical / online,
                "short_lived_cores": mean(processes.short_lived_cores[:, number], weights),
                "waiting_tasks": mean(processes.waiting[:, number], weights),
                "private_bytes": float(np.median(processes.private_bytes[:, number])),
                "change_bytes": float(
                    processes.private_bytes[-1, number] - processes.private_bytes[0, number]
                ),
                "rss_bytes": float(np.median(processes.rss_bytes[:, number])),
                "read_bytes_per_s": mean(processes.read_bytes_per_s[:, number], weights),
                "write_bytes_per_s": mean(processes.write_bytes_per_s[:, number], weights),
                "sent_bytes_per_s": mean(series.sent_bytes_per_s[:, number], weights),
                "received_bytes_per_s": mean(series.received_bytes_per_s[:, number], weights),
                "io_waiting_tasks": mean(processes.io_waiting[:, number], weights),
                **{
                    f"blocked_{kind}": float(held[:, number].mean())
                    for kind, held in processes.blocked.items()
                },
                "short_lived_programs": _counted(processes.short_lived_programs.get(number, {})),
                "major_faults_per_s": mean(processes.major_faults_per_s[:, number], weights),
                "ports": _ports_text(ports, application.members),
                "observer": application.observer,
            }
        )
    return frame_of(rows, "cores_mean")


def process_table(series: Series) -> pd.DataFrame:
    """Return one row for each process identity, the greatest use first."""
    processes, grouping = series.processes, series.processes.grouping
    about = series.header.machine
    online = float(np.median(series.machine.online))
    nothing = np.zeros(len(series.machine.interval_s))
    use = _use_of_each(series)
    ports = ports_of_each(series)
    rollups = {one.process: one for survey in series.surveys for one in survey.rollups}
    packages = {one.executable: one.name for survey in series.surveys for one in survey.packages}
    rows: list[dict[str, object]] = []
    for identity, sample in processes.last.items():
        facts = grouping.facts(identity)
        application = grouping.applications[grouping.application_of[identity]]
        cpu_s = float(processes.process_cpu_s[identity])
        detail = processes.details.get(identity, (None, None))[1]
        rollup = rollups.get(identity)
        cores = use.get(identity, nothing)
        rows.append(
            {
                "pid": facts.pid,
                "program": grouping.program(identity).name,
                "application": application.name,
                "application_number": grouping.application_of[identity],
                "user": facts.user,
                "processor": sample.processor if sample.processor >= 0 else None,
                "state": sample.state if identity not in processes.ended_tick else "ended",
                "parent_pid": facts.ppid,
                "threads": sample.threads,
                "nice": sample.nice,
                "cores_mean": cpu_s / series.duration_s,
                "cores_max": float(cores.max()),
                "cores_curve": curve(cores, CURVE_POINTS),
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
                "run_delay_s": None if sample.delay_ns is None else sample.delay_ns / NS_PER_S,
                "io_waited_s": sample.io_delay_clk / about.clock_ticks_per_s,
                "read_bytes": sample.read_bytes,
                "write_bytes": sample.write_bytes,
                "descriptors": detail.descriptors if detail else None,
                "descriptor_limit": detail.descriptor_limit if detail else None,
                "swap_bytes": _kib(detail.swap_kib if detail else None),
                "waits_in": sample.waits_in or (detail.waits_in if detail else None),
                "proportional_bytes": _kib(rollup.pss_kib if rollup else None),
                "locked_bytes": _kib(rollup.locked_kib if rollup else None),
                "ports": _ports_text(ports, [identity]),
                "graphics_s": series.devices.graphics_s.get(identity),
            }
        )
    return frame_of(rows, "cores_mean")


def tree_table(series: Series) -> pd.DataFrame:
    """Return the processes as a family tree, the family with the greatest use first.

    ``family`` is the program, indented below its parent; ``family_cores`` and ``family_bytes`` are
    sums over a process and all that descend from it.
    """
    rows = {int(row["pid"]): row for row in process_table(series).to_dict(orient="records")
            if row["state"] != "ended"}  # fmt: skip
    children: dict[int, list[int]] = defaultdict(list)
    for pid, row in rows.items():
        children[int(row["parent_pid"])].append(pid)
    sums: dict[int, tuple[float, float]] = {}
    tops = [pid for pid, row in rows.items() if int(row["parent_pid"]) not in rows]
    for pid in reversed(_downwards(tops, children)):
        below = [sums[child] for child in children[pid]]
        row = rows[pid]
        sums[pid] = (
            float(row["cores_mean"]) + sum(one[0] for one in below),
            float(row["private_bytes"]) + sum(one[1] for one in below),
        )
    for family in (tops, *children.values()):
        family.sort(key=lambda pid: -sums.get(pid, (0.0, 0.0))[0])
    depth: dict[int, int] = {}
    table: list[dict[str, object]] = []
    for pid in _downwards(tops, children):
        row = rows[pid]
        depth[pid] = depth.get(int(row["parent_pid"]), -1) + 1
        table.append(
            {
                "family": "  " * depth[pid] + str(row["program"]),
                "pid": pid,
                "depth": depth[pid],
                "user": row["user"],
                "state": row["state"],
                "cores_mean": row["cores_mean"],
                "family_cores": sums[pid][0],
                "private_bytes": row["private_bytes"],
                "family_bytes": sums[pid][1],
                "unit": row["unit"],
                "command_line": row["command_line"],
            }
        )
    return pd.DataFrame(table)


def _downwards(tops: list[int], children: dict[int, list[int]]) -> list[int]:
    """Return all below the given ones, each after its parent and next to its family."""
    order: list[int] = []
    waiting = list(reversed(tops))
    seen = set(tops)
    while waiting:
        pid = waiting.pop()
        order.append(pid)
        for child in reversed(children.get(pid, [])):
            # a parent number that was given away again could close a circle
            if child not in seen:
                seen.add(child)
                waiting.append(child)
    return order


def _use_of_each(series: Series) -> dict[int, Floats]:
    """Return the use over the intervals of all processes that used some."""
    use, interval_s = series.processes.use, series.machine.interval_s
    order = np.argsort(use.process, kind="stable")
    process, row, seconds = use.process[order], use.row[order], use.seconds[order]
    edges = np.flatnonzero(np.diff(process)) + 1
    found: dict[int, Floats] = {}
    for rows, amounts, numbers in zip(
        *(np.split(one, edges) for one in (row, seconds, process)), strict=True
    ):
        if len(numbers):
            total = np.zeros(len(interval_s))
            np.add.at(total, rows, amounts)
            found[int(numbers[0])] = total / interval_s
    return found


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


def ports_of_each(series: Series) -> dict[int, set[int]]:
    """Return the local ports of the sockets that each process had."""
    found: dict[int, set[int]] = defaultdict(set)
    for one in series.sockets:
        if one.facts.local_port:
            for owner in one.owners:
                found[owner].add(one.facts.local_port)
    return found


def _ports_text(ports: dict[int, set[int]], identities: list[int]) -> str | None:
    found = sorted({port for one in identities for port in ports.get(one, ())})
    return " ".join(map(str, found)) or None


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
