"""Topic ``processes``: single processes with all that is known of them."""

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping

from dunmist.advice import Judged
from dunmist.computer import DELETED
from dunmist.series import Process
from dunmist.tables.declared import CURVE_POINTS, Column, Row, Table, Width
from dunmist.tables.ports import network_bytes_of_each, ports_of_each, ports_text
from dunmist.tables.shared_columns import (
    APPLICATION,
    APPLICATION_NUMBER,
    COMMAND_LINE,
    CORES_CURVE,
    CORES_MAX,
    CORES_MEAN,
    DISK_BYTES,
    MACHINE_SHARE,
    NETWORK_BYTES,
    PID,
    PORTS,
    PRIVATE_BYTES,
    PROGRAM,
    ROLE,
    RSS_BYTES,
    STATE,
    UNIT,
    USER,
)

# sched(7)
POLICIES = {
    0: "normal",
    1: "first-in first-out",
    2: "round robin",
    3: "batch",
    5: "idle",
    6: "deadline",
}
# how container engines name the group of a container
CONTAINER = re.compile(
    r"(?:docker|libpod|crio|cri-containerd|lxc[./]payload|machine)"
    r"[-/.]([\w.-]{1,64}?)(?:\.scope)?(?:/|\Z)"
)
# the short form that container programs print themselves
CONTAINER_ID_SHOWN = 12
UNIX_98_MAJORS = range(136, 144)  # Documentation/admin-guide/devices.txt
# Documentation/admin-guide/devices.txt
CONSOLE_MAJOR, FIRST_SERIAL = 4, 64
NS_PER_S, KIB = 1e9, 1024.0


def process_rows(judged: Judged, processes: Iterable[Process] | None = None) -> Iterator[Row]:
    """Yield a row for each process, or for each of the given ones."""
    series = judged.series
    about, processors = series.header.machine, series.machine.logical_processors
    ports, network = ports_of_each(series), network_bytes_of_each(series)
    names = {
        process.facts.uid: process.facts.user
        for process in series.processes.values()
        if process.facts.user
    }
    rollups = {
        rollup.process: rollup for survey in series.surveyed.surveys for rollup in survey.rollups
    }
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
            "uid": facts.uid,
            "group": facts.group,
            "processor": sample.processor if sample.processor >= 0 else None,
            "state": sample.state if process.is_alive else "ended",
            "parent_pid": facts.ppid,
            "threads": sample.threads,
            "nice": sample.nice,
            "cores_mean": process.cpu_s / series.line.measured_s,
            "cores_max": cores.greatest(),
            "cores_curve": cores.curve(CURVE_POINTS),
            "machine_share": process.cpu_s / series.line.measured_s / processors,
            "cpu_s": process.cpu_s,
            "cpu_total_s": (sample.user_clk + sample.system_clk) / about.clock_ticks_per_s,
            "disk_bytes_per_s": process.read_bytes_per_s.known_or(0.0).mean()
            + process.write_bytes_per_s.known_or(0.0).mean(),
            "network_bytes_per_s": network.get(process.identity, 0.0),
            "virtual_bytes": _kib(detail.virtual_kib if detail else None),
            "bits": detail.bits if detail else None,
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
            "ports": ports_text(ports, [process]),
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
    PID,
    PROGRAM,
    APPLICATION,
    APPLICATION_NUMBER,
    USER,
    Column("uid", "number", "number of its owner", answers=("owner",)),
    Column("group", "text", "effective group", answers=("owner",)),
    Column("processor", "number", "where it was last seen"),
    STATE,
    Column("parent_pid", "number", "process number of its parent"),
    Column("threads", "number", "how many threads it has"),
    Column("nice", "number", "nice value, the lower the more it gets"),
    CORES_MEAN,
    CORES_MAX,
    CORES_CURVE,
    MACHINE_SHARE,
    Column("cpu_s", "s", "CPU time over the capture"),
    Column("cpu_total_s", "s", "CPU time since it started"),
    DISK_BYTES,
    NETWORK_BYTES,
    Column("virtual_bytes", "bytes", "size of its address space, used or not"),
    Column("bits", "number", "word size of its program: 32 or 64"),
    RSS_BYTES,
    PRIVATE_BYTES,
    COMMAND_LINE,
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
    Column("run_delay_s", "s", "its first thread waited for a CPU, since it started"),
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
)
PROCESSES = Table(
    "processes",
    "by their own use (`--flat`)",
    PROCESS_COLUMNS,
    process_rows,
    shown=(
        "program",
        "pid",
        "cores_mean",
        "private_bytes",
        "disk_bytes_per_s",
        "network_bytes_per_s",
        "user",
        "state",
        "application",
        "role",
        "cores_curve",
        "threads",
        "nice",
        "machine_share",
        "cores_max",
        "cpu_total_s",
        "read_bytes",
        "write_bytes",
        "descriptors",
        "waits_in",
        "command_line",
    ),
    order=("cores_mean",),
)
UNFOLDED = PROCESSES._replace(
    about="below one another by application (`--each`)", rows=_unfolded, order=()
)


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
