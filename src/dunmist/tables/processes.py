"""Topic ``processes``: applications, and single processes with all that is known of them."""

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping

from dunmist.advice import Judged
from dunmist.computer import DELETED
from dunmist.series import Process, Series
from dunmist.tables.common import (
    APPLICATION,
    APPLICATION_NUMBER,
    CHANGE_BYTES,
    COMMAND_LINE,
    CORES_CURVE,
    CORES_MAX,
    CORES_MEAN,
    MACHINE_SHARE,
    PID,
    PORTS,
    PRIVATE_BYTES,
    PROGRAM,
    ROLE,
    RSS_BYTES,
    STATE,
    UNIT,
    USER,
    USERS,
)
from dunmist.tables.declared import CURVE_POINTS, Column, Row, Table, Width

# sched(7)
POLICIES = {0: "normal", 1: "first-in first-out", 2: "round robin", 3: "batch", 5: "idle",
            6: "deadline"}  # fmt: skip
# how container engines name the group of a container
CONTAINER = re.compile(r"(?:docker|libpod|crio|cri-containerd|lxc[./]payload|machine)"
                       r"[-/.]([\w.-]{1,64}?)(?:\.scope)?(?:/|\Z)")  # fmt: skip
CONTAINER_ID_SHOWN = 12
UNIX_98_MAJORS = range(136, 144)  # Documentation/admin-guide/devices.txt
CONSOLE_MAJOR, FIRST_SERIAL = 4, 64
BLOCKED = ("storage", "pages", "lock", "other")
SHORT_LIVED_SHOWN = 5
NS_PER_S, KIB = 1e9, 1024.0


def _applications(judged: Judged) -> Iterator[Row]:
    series = judged.series
    ports = ports_of_each(series)
    for one in series.applications:
        cores, private = one.cores, one.private_bytes
        yield {
            "application": one.name,
            "application_number": one.number,
            "processes": len(one.members),
            "users": " ".join(sorted({process.facts.user or "unknown" for process in one.members})),
            "unit": one.unit,
            "cores_mean": cores.mean(),
            "cores_median": cores.median(),
            "cores_max": cores.greatest(),
            "cores_curve": cores.curve(CURVE_POINTS),
            "machine_share": cores.mean() / series.machine.logical_processors,
            "short_lived_cores": one.short_lived_cores.mean(),
            "waiting_tasks": one.waiting.mean(),
            "private_bytes": private.median(),
            "change_bytes": private.change(),
            "rss_bytes": one.rss_bytes.median(),
            "read_bytes_per_s": one.read_bytes_per_s.mean(),
            "write_bytes_per_s": one.write_bytes_per_s.mean(),
            "sent_bytes_per_s": one.sent_bytes_per_s.mean(),
            "received_bytes_per_s": one.received_bytes_per_s.mean(),
            "io_waiting_tasks": one.io_waiting.mean(),
            **{
                f"blocked_{kind}": one.blocked[kind].mean() if kind in one.blocked else 0.0
                for kind in BLOCKED
            },
            "short_lived_programs": _counted(one.short_lived_programs),
            "major_faults_per_s": one.major_faults_per_s.mean(),
            "ports": _ports_text(ports, one.members),
            "observer": one.observer,
            "role": judged.diagnosis.role_of(one),
        }


APPLICATIONS = Table(
    "applications",
    "the greatest use first",
    (
        APPLICATION,
        APPLICATION_NUMBER,
        Column("processes", "number", "how many processes it had"),
        USERS,
        UNIT,
        CORES_MEAN,
        Column("cores_median", "cores", "logical processors used, median"),
        CORES_MAX,
        CORES_CURVE,
        MACHINE_SHARE,
        Column("short_lived_cores", "figure", "of that by children that were never seen"),
        Column("waiting_tasks", "figure", "mean number that waited for a processor"),
        PRIVATE_BYTES,
        CHANGE_BYTES,
        RSS_BYTES,
        Column("read_bytes_per_s", "bytes/s", "from storage"),
        Column("write_bytes_per_s", "bytes/s", "to storage"),
        Column("sent_bytes_per_s", "bytes/s", "over TCP to other computers"),
        Column("received_bytes_per_s", "bytes/s", "over TCP from other computers"),
        Column("io_waiting_tasks", "figure", "mean number that waited for storage"),
        *(
            Column(f"blocked_{kind}", "figure", f"processes seen waiting for {what}, on average")
            for kind, what in zip(
                BLOCKED, ("storage", "pages", "a lock in the kernel", "something else"), strict=True
            )
        ),
        Column("short_lived_programs", "text", "names and counts of those never seen"),
        Column("major_faults_per_s", "a second", "pages read from storage"),
        PORTS,
        Column("observer", "flag", "whether it is Dunmist itself"),
        ROLE,
    ),
    _applications,
    shown=(
        "application", "processes", "cores_mean", "machine_share", "cores_max", "cores_curve",
        "role", "waiting_tasks", "private_bytes", "change_bytes", "read_bytes_per_s",
        "write_bytes_per_s", "sent_bytes_per_s", "received_bytes_per_s", "users",
    ),
    order=("cores_mean",),
)  # fmt: skip


def process_rows(judged: Judged, processes: Iterable[Process] | None = None) -> Iterator[Row]:
    """Yield a row for each process, or for each of the given ones."""
    series = judged.series
    about, processors = series.header.machine, series.machine.logical_processors
    ports = ports_of_each(series)
    names = {one.facts.uid: one.facts.user for one in series.processes.values() if one.facts.user}
    rollups = {one.process: one for survey in series.surveyed.surveys for one in survey.rollups}
    for process in series.processes.values() if processes is None else processes:
        sample, facts, detail = process.last, process.facts, process.detail
        if sample is None:
            continue
        cores, rollup = process.cores.known_or(0.0), rollups.get(process.identity)
        package = series.surveyed.package_of_file(facts.executable)
        graphics = series.devices.graphics_use.get(process.identity)
        yield {
            "pid": process.pid,
            "program": process.name,
            "application": process.application.name,
            "application_number": process.application.number,
            "user": facts.user,
            "processor": sample.processor if sample.processor >= 0 else None,
            "state": sample.state if process.is_alive else "ended",
            "parent_pid": facts.ppid,
            "threads": sample.threads,
            "nice": sample.nice,
            "cores_mean": process.cpu_s / series.duration_s,
            "cores_max": cores.greatest(),
            "cores_curve": cores.curve(CURVE_POINTS),
            "machine_share": process.cpu_s / series.duration_s / processors,
            "cpu_s": process.cpu_s,
            "rss_bytes": sample.rss_pages * about.page_bytes,
            "private_bytes": (sample.rss_pages - (sample.shared_pages or 0)) * about.page_bytes,
            "command_line": " ".join(facts.command_line) or None,
            "executable": facts.executable,
            "executable_deleted": (facts.executable or "").endswith(DELETED),
            "package": package.name if package else None,
            "unit": process.unit,
            "container": container_of(facts.cgroup),
            "cgroup": facts.cgroup,
            "login_user": _user_name(names, facts.login_uid),
            "terminal": terminal_name(facts.tty),
            "scheduling": POLICIES.get(facts.policy),
            "started_s": series.started_s(facts.start_clk),
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
            "ports": _ports_text(ports, [process]),
            "graphics_s": None if graphics is None else graphics.total(),
            "role": judged.diagnosis.role_of(process.application),
        }


def _unfolded(judged: Judged) -> list[Row]:
    """Return the processes below one another by application, the greatest application first."""
    rows = list(process_rows(judged))
    use: dict[object, float] = defaultdict(float)
    for row in rows:
        use[row["application_number"]] += float(str(row["cores_mean"]))
    return sorted(
        rows,
        key=lambda row: (
            -use[row["application_number"]],
            int(str(row["application_number"])),
            -float(str(row["cores_mean"])),
        ),
    )


PROCESS_COLUMNS = (
    PID, PROGRAM, APPLICATION, APPLICATION_NUMBER, USER,
    Column("processor", "number", "where it was last seen"),
    STATE,
    Column("parent_pid", "number", "process number of its parent"),
    Column("threads", "number", "how many threads it has"),
    Column("nice", "number", "nice value, the lower the more it gets"),
    CORES_MEAN, CORES_MAX, CORES_CURVE, MACHINE_SHARE,
    Column("cpu_s", "s", "processor time over the capture"),
    RSS_BYTES, PRIVATE_BYTES, COMMAND_LINE,
    Column("executable", "text", "file of its program", answers=("name",)),
    Column("executable_deleted", "flag", "whether that file is gone"),
    Column("package", "text", "package that the file belongs to"),
    UNIT,
    Column("container", "text", "container that it runs in"),
    Column("cgroup", "text", "control group"),
    Column("login_user", "text", "who logged in to start it", answers=("owner",)),
    Column("terminal", "text", "controlling terminal"),
    Column("scheduling", "text", "scheduling policy of sched(7)"),
    Column("started_s", "moment", "when it started"),
    Column("minor_faults", "number", "pages that had to be mapped, since it started"),
    Column("major_faults", "number", "pages that had to be read from storage, since it started"),
    Column("run_delay_s", "s", "its first thread waited for a processor, since it started"),
    Column("io_waited_s", "s", "it waited for storage, since it started"),
    Column("read_bytes", "bytes", "from storage, since it started"),
    Column("write_bytes", "bytes", "to storage, since it started"),
    Column("descriptors", "number", "open files and sockets"),
    Column("descriptor_limit", "number", "how many of them it may have"),
    Column("swap_bytes", "bytes", "of its memory in swap"),
    Column("waits_in", "text", "kernel function that it sleeps or waits in", Width()),
    Column("proportional_bytes", "bytes", "memory, shared pages divided among their sharers"),
    Column("locked_bytes", "bytes", "memory that cannot be moved out"),
    PORTS,
    Column("graphics_s", "s", "time of graphics engines over the capture"),
    ROLE,
)  # fmt: skip
PROCESSES = Table(
    "processes",
    "by their own use (`--flat`)",
    PROCESS_COLUMNS,
    process_rows,
    shown=(
        "application", "pid", "program", "user", "state", "cores_mean", "machine_share",
        "cores_max", "cores_curve", "role", "threads", "nice", "private_bytes", "read_bytes",
        "write_bytes", "descriptors", "waits_in", "command_line",
    ),
    order=("cores_mean",),
)  # fmt: skip
UNFOLDED = PROCESSES._replace(
    about="below one another by application (`--each`)", rows=_unfolded, order=()
)


def _families(judged: Judged) -> Iterator[Row]:
    """Yield the living processes as a family tree, the family with the greatest use first."""
    living = [one for one in judged.series.living.values() if one.last is not None]
    rows = dict(zip(living, process_rows(judged, living), strict=True))
    tops = [one for one in rows if one.parent not in rows]
    order = _downwards(tops, rows.keys())
    sums: dict[Process, tuple[float, float]] = {}
    for process in reversed(order):
        below = [sums[child] for child in process.children if child in sums]
        row = rows[process]
        sums[process] = (
            float(str(row["cores_mean"])) + sum(cores for cores, _ in below),
            float(str(row["private_bytes"])) + sum(held for _, held in below),
        )
    depth: dict[Process, int] = {}
    for process in _downwards(tops, rows.keys(), sums):
        row = rows[process]
        depth[process] = depth[process.parent] + 1 if process.parent in depth else 0
        yield {
            "family": "  " * depth[process] + process.name,
            "depth": depth[process],
            "family_cores": sums[process][0],
            "family_bytes": sums[process][1],
            **{
                name: row[name]
                for name in (
                    "pid", "user", "state", "cores_mean", "private_bytes", "unit", "command_line",
                )
            },
        }  # fmt: skip


FAMILY = Table(
    "family",
    "who started whom (`--tree`), the family with the greatest use first",
    (
        Column("family", "text", "program, indented below its parent", Width(36), ("name",)),
        PID,
        Column("depth", "number", "generations below the first"),
        USER,
        STATE,
        CORES_MEAN,
        Column("family_cores", "cores", "of a process and all its descendants"),
        PRIVATE_BYTES,
        Column("family_bytes", "bytes", "of a process and all its descendants",
               title="family memory"),
        UNIT,
        COMMAND_LINE,
    ),
    _families,
    shown=(
        "family", "pid", "user", "state", "family_cores", "cores_mean", "family_bytes",
        "private_bytes", "command_line",
    ),
)  # fmt: skip


def _downwards(
    tops: list[Process],
    among: Iterable[Process],
    sums: Mapping[Process, tuple[float, float]] | None = None,
) -> list[Process]:
    """Return all below the given ones, each after its parent and next to its family."""
    there = set(among)

    def in_order(family: Iterable[Process]) -> list[Process]:
        known = [one for one in family if one in there]
        return sorted(known, key=lambda one: -sums[one][0]) if sums else known

    order: list[Process] = []
    waiting = list(reversed(in_order(tops)))
    seen = set(tops)
    while waiting:
        process = waiting.pop()
        order.append(process)
        # a parent number that was given away again could close a circle
        children = [one for one in in_order(process.children) if one not in seen]
        seen.update(children)
        waiting += reversed(children)
    return order


def thread_rows(judged: Judged, processes: Iterable[Process] | None = None) -> Iterator[Row]:
    """Yield a row for each watched thread, of all processes or of the given ones."""
    for process in judged.series.processes.values() if processes is None else processes:
        for thread in process.threads:
            yield {
                "pid": process.pid,
                "program": process.name,
                "tid": thread.tid,
                "thread": thread.name,
                "cores_mean": thread.cores.mean(),
                "waiting_tasks": thread.waiting.mean(),
            }


THREADS = Table(
    "busy threads",
    "of the few busiest processes, over the time for which they were watched",
    (
        PID,
        PROGRAM,
        Column("tid", "number", "thread number"),
        Column("thread", "text", "what the thread calls itself"),
        CORES_MEAN,
        Column("waiting_tasks", "figure", "share of time in which it waited for a processor"),
    ),
    thread_rows,
    order=("cores_mean",),
)


def ports_of_each(series: Series) -> dict[int, set[int]]:
    """Return the local ports of the sockets that each process had, by identity."""
    found: dict[int, set[int]] = defaultdict(set)
    for one in series.sockets:
        if one.facts.local_port:
            for owner in one.owners:
                found[owner].add(one.facts.local_port)
    return found


def _ports_text(ports: dict[int, set[int]], processes: Iterable[Process]) -> str | None:
    found = sorted({port for one in processes for port in ports.get(one.identity, ())})
    return " ".join(map(str, found)) or None


def container_of(cgroup: str | None) -> str | None:
    """Return the container that a control group belongs to, None for none."""
    match = CONTAINER.search(cgroup or "")
    return match[1][:CONTAINER_ID_SHOWN] if match else None


def terminal_name(tty: int) -> str | None:
    """Return the name of a controlling terminal, None without one (proc_pid_stat(5))."""
    major, minor = (tty >> 8) & 0xFFF, (tty & 0xFF) | ((tty >> 12) & 0xFFF00)
    if tty <= 0:
        return None
    if major in UNIX_98_MAJORS:
        return f"pts/{minor + 256 * (major - UNIX_98_MAJORS.start)}"
    if major == CONSOLE_MAJOR:
        return f"tty{minor}" if minor < FIRST_SERIAL else f"ttyS{minor - FIRST_SERIAL}"
    return f"{major}:{minor}"


def _user_name(names: Mapping[int | None, str], uid: int | None) -> str | None:
    return None if uid is None else names.get(uid) or str(uid)


def _kib(amount: int | None) -> float | None:
    return None if amount is None else amount * KIB


def _counted(programs: Mapping[str, int]) -> str | None:
    most = sorted(programs.items(), key=lambda item: -item[1])[:SHORT_LIVED_SHOWN]
    return " ".join(f"{name}:{count}" for name, count in most) or None
