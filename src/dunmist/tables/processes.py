"""Topic ``processes``: single processes with all that is known of them."""

import re
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import NamedTuple

from dunmist.advice import Judged
from dunmist.computer import DELETED, MemoryRollup, ProcessDetail, ProcessFacts, ProcessSample
from dunmist.series import Process, Series
from dunmist.tables.declared import CURVE_POINTS, Column, Table, Width
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


class OneProcess(NamedTuple):
    """One process with its last sample, and what is known of all of them."""

    process: Process
    sample: ProcessSample
    known: "_Known"

    @property
    def facts(self) -> ProcessFacts:
        """Its facts."""
        return self.process.facts

    @property
    def detail(self) -> ProcessDetail | None:
        """Figures that are too expensive to read at each tick."""
        return self.process.detail

    @property
    def state(self) -> str:
        """A letter of the kernel's, or ended."""
        return self.sample.state if self.process.is_alive else "ended"

    @property
    def cores_mean(self) -> float:
        """Logical CPUs used."""
        return self.process.cpu_s / self.series.line.measured_s

    @property
    def private_bytes(self) -> int:
        """Memory not shared with other processes."""
        return _pages(self, self.sample.rss_pages - (self.sample.shared_pages or 0))

    @property
    def command_line(self) -> str | None:
        """Its arguments."""
        return " ".join(self.facts.command_line) or None

    @property
    def series(self) -> Series:
        """The capture that it is of."""
        return self.known.judged.series


class _Known(NamedTuple):
    """Facts that are computed once for all processes, each by its identity."""

    judged: Judged
    ports: Mapping[int, set[int]]
    network: Mapping[int, float]
    users: Mapping[int | None, str]
    rollups: Mapping[int, MemoryRollup]


def processes_of(
    judged: Judged, processes: Iterable[Process] | None = None
) -> Iterator[OneProcess]:
    """Yield the record of each process, or of each of the given ones."""
    series = judged.series
    known = _Known(
        judged,
        ports_of_each(series),
        network_bytes_of_each(series),
        {
            process.facts.uid: process.facts.user
            for process in series.processes.values()
            if process.facts.user
        },
        {rollup.process: rollup for survey in series.surveyed.surveys for rollup in survey.rollups},
    )
    for process in series.processes.values() if processes is None else processes:
        if process.last is not None:
            yield OneProcess(process, process.last, known)


def _unfolded(judged: Judged) -> list[OneProcess]:
    """Return the processes below one another by application, the greatest application first."""
    records = list(processes_of(judged))
    cores: dict[int, float] = defaultdict(float)
    for record in records:
        cores[record.process.application.number] += record.cores_mean
    return sorted(
        records,
        key=lambda row: (
            -cores[row.process.application.number],
            row.process.application.number,
            -row.cores_mean,
        ),
    )


def _machine_share(row: OneProcess) -> float:
    return row.cores_mean / row.series.machine.logical_processors


def _disk_bytes_per_s(row: OneProcess) -> float:
    moved = (row.process.read_bytes_per_s, row.process.write_bytes_per_s)
    return sum(rate.known_or(0.0).mean() for rate in moved)


def _package(row: OneProcess) -> str | None:
    package = row.series.surveyed.package_of_file(row.facts.executable)
    return package.name if package else None


def _graphics_s(row: OneProcess) -> float | None:
    use = row.series.devices.graphics_use.get(row.process.identity)
    return None if use is None else use.total()


def _pages(row: OneProcess, pages: int) -> int:
    return pages * row.series.header.machine.page_bytes


def _clk_s(row: OneProcess, clk: int) -> float:
    return clk / row.series.header.machine.clock_ticks_per_s


def _rollup_bytes(row: OneProcess, kib: Callable[[MemoryRollup], int | None]) -> float | None:
    rollup = row.known.rollups.get(row.process.identity)
    return _kib(kib(rollup)) if rollup else None


PROCESS_COLUMNS: tuple[Column[OneProcess], ...] = (
    PID.of(lambda row: row.process.pid),
    PROGRAM.of(lambda row: row.process.name),
    APPLICATION.of(lambda row: row.process.application.name),
    APPLICATION_NUMBER.of(lambda row: row.process.application.number),
    USER.of(lambda row: row.facts.user),
    Column("uid", "number", "number of its owner", lambda row: row.facts.uid, answers=("owner",)),
    Column("group", "text", "effective group", lambda row: row.facts.group, answers=("owner",)),
    Column("processor", "number", "where it was last seen",
        lambda row: row.sample.processor if row.sample.processor >= 0 else None),
    STATE,
    Column("parent_pid", "number", "process number of its parent", lambda row: row.facts.ppid),
    Column("threads", "number", "how many threads it has", lambda row: row.sample.threads),
    Column("nice", "number", "nice value, the lower the more it gets", lambda row: row.sample.nice),
    CORES_MEAN,
    CORES_MAX.of(lambda row: row.process.cores.known_or(0.0).greatest()),
    CORES_CURVE.of(lambda row: row.process.cores.known_or(0.0).curve(CURVE_POINTS)),
    MACHINE_SHARE.of(_machine_share),
    Column("cpu_s", "s", "CPU time over the capture", lambda row: row.process.cpu_s),
    Column("cpu_total_s", "s", "CPU time since it started",
        lambda row: _clk_s(row, row.sample.user_clk + row.sample.system_clk)),
    DISK_BYTES.of(_disk_bytes_per_s),
    NETWORK_BYTES.of(lambda row: row.known.network.get(row.process.identity, 0.0)),
    Column("virtual_bytes", "bytes", "size of its address space, used or not",
        lambda row: _kib(row.detail.virtual_kib if row.detail else None)),
    Column("bits", "number", "word size of its program: 32 or 64",
        lambda row: row.detail and row.detail.bits),
    Column("allowed_cpus", "number", "number of logical CPUs that it may run on",
        lambda row: row.detail and row.detail.cpus),
    RSS_BYTES.of(lambda row: _pages(row, row.sample.rss_pages)),
    PRIVATE_BYTES,
    COMMAND_LINE,
    Column("executable", "text", "file of its program", lambda row: row.facts.executable,
        answers=("name",)),
    Column("executable_deleted", "flag", "whether that file is gone",
        lambda row: (row.facts.executable or "").endswith(DELETED)),
    Column("package", "text", "package that the file belongs to", _package),
    UNIT.of(lambda row: row.process.unit),
    Column("container", "text", "container that it runs in",
        lambda row: container_of(row.facts.cgroup)),
    Column("cgroup", "text", "control group", lambda row: row.facts.cgroup),
    Column("login_user", "text", "user who logged in to start it",
        lambda row: _user_name(row.known.users, row.facts.login_uid), answers=("owner",)),
    Column("terminal", "text", "controlling terminal", lambda row: terminal_name(row.facts.tty)),
    Column("scheduling", "text", "scheduling policy of sched(7)",
        lambda row: POLICIES.get(row.facts.policy)),
    Column("started_s", "moment", "when it started",
        lambda row: row.series.started_s(row.facts.start_clk)),
    Column("minor_faults", "number", "pages that had to be mapped, since it started",
        lambda row: row.sample.minor_faults),
    Column("major_faults", "number", "pages that had to be read from storage, since it started",
        lambda row: row.sample.major_faults),
    Column("run_delay_s", "s", "its first thread waited for a CPU, since it started",
        lambda row: None if row.sample.delay_ns is None else row.sample.delay_ns / NS_PER_S),
    Column("io_waited_s", "s", "it waited for storage, since it started",
        lambda row: _clk_s(row, row.sample.io_delay_clk)),
    Column("read_bytes", "bytes", "from storage, since it started",
        lambda row: row.sample.read_bytes),
    Column("write_bytes", "bytes", "to storage, since it started",
        lambda row: row.sample.write_bytes),
    Column("descriptors", "number", "open files and sockets",
        lambda row: row.detail and row.detail.descriptors),
    Column("descriptor_limit", "number", "how many of them it may have",
        lambda row: row.detail and row.detail.descriptor_limit),
    Column("swap_bytes", "bytes", "of its memory in swap",
        lambda row: _kib(row.detail.swap_kib if row.detail else None)),
    Column("waits_in", "text", "kernel function that it sleeps or waits in",
        lambda row: row.sample.waits_in or (row.detail and row.detail.waits_in), width=Width()),
    Column("proportional_bytes", "bytes", "memory, shared pages divided among their sharers",
        lambda row: _rollup_bytes(row, lambda rollup: rollup.pss_kib)),
    Column("locked_bytes", "bytes", "memory that cannot be moved out",
        lambda row: _rollup_bytes(row, lambda rollup: rollup.locked_kib)),
    PORTS.of(lambda row: ports_text(row.known.ports, [row.process])),
    Column("graphics_s", "s", "time of graphics engines over the capture", _graphics_s),
    ROLE.of(lambda row: row.known.judged.diagnosis.role_of(row.process.application)),
)
PROCESSES = Table(
    "processes",
    "by their own use (`--flat`)",
    PROCESS_COLUMNS,
    processes_of,
    shown=("program", "pid", "cores_mean", "private_bytes", "disk_bytes_per_s",
        "network_bytes_per_s", "user", "state", "application", "role", "cores_curve", "threads",
        "nice", "machine_share", "cores_max", "cpu_total_s", "read_bytes", "write_bytes",
        "descriptors", "waits_in", "command_line"),
    order=("cores_mean",),
)
UNFOLDED = PROCESSES._replace(
    about="below one another by application (`--each`)", records=_unfolded, order=()
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
