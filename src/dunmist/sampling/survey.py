"""Read the survey: after the first tick that leaves time for it, and after the last.

These change slowly or are expensive to read: file systems, swap areas,
services, autostart, sessions, exact memory of the largest processes, packages. None of it belongs
to a tick, so that no tick waits for it.
"""

import time

import msgspec

from dunmist.computer import (
    DELETED,
    Boot,
    Change,
    ChangeKind,
    DeletedFile,
    DriveHealth,
    FileSystem,
    FrozenGroup,
    Gateway,
    Home,
    IoLimit,
    KnownUpdates,
    LockWait,
    LogEnd,
    MemoryEvents,
    MemoryRollup,
    Package,
    Pending,
    RadioLink,
    Root,
    Scheduling,
    Session,
    ShownTerminal,
    StartEntry,
    SwapArea,
    TaskLimit,
    TimeSync,
    Unit,
    UnixPair,
    has_rpm,
    is_person,
    parse_locks,
    parse_swaps,
    read_autostart,
    read_boot,
    read_changes,
    read_deleted_files,
    read_file_systems,
    read_gateways,
    read_known_updates,
    read_log_ends,
    read_packages,
    read_pending,
    read_people,
    read_radio,
    read_services,
    read_shown_terminals,
    read_time_sync,
    read_users,
)
from dunmist.sampling.code_sampler import FunctionSamples
from dunmist.sampling.tick_context import OpenComputer

# exact memory costs a walk through the page tables of each
LARGEST = 10
# looking for newer versions moves the heads of a disk: done for those who could be to blame
UPDATED_OF = 12
# programs that keep a log or show a terminal, and what one uses of a CPU where somebody floods it
SERVERS_OF, SERVER_CORES_LEAST = 8, 0.05
# recent changes take a third of it, and no more files are read after it
CHANGES_TAKE_S = 0.3
# processes that answer questions about services and sessions, by name
ASKED = frozenset(("systemd", "init", "dbus-daemon", "dbus-broker", "systemd-logind", "elogind"))


class Survey(
    msgspec.Struct, frozen=True, omit_defaults=True, tag_field="kind", tag="survey", kw_only=True
):
    """One reading of the slow sources."""

    tick: int  # it came after this one
    is_last: bool
    took_s: float = 0.0
    asked_cpu_s: float = 0.0  # CPU time of the processes that answered our questions
    asked: dict[int, float] = {}
    file_systems: list[FileSystem] = []
    swaps: list[SwapArea] = []
    sessions: list[Session] = []
    rollups: list[MemoryRollup] = []
    time_sync: TimeSync | None = None
    units: list[Unit] = []
    autostart: list[StartEntry] = []  # first survey only
    packages: list[Package] = []  # last survey only, as all below but locks
    # executables deleted under a living process, with another file in their place
    replaced: list[str] = []
    locks: list[LockWait] = []
    scheduling: Scheduling | None = None
    memory_events: list[MemoryEvents] = []
    frozen_groups: list[FrozenGroup] = []
    # groups that are close to their limit of tasks
    task_limits: list[TaskLimit] = []
    io_limits: list[IoLimit] = []  # of control groups
    pending: Pending | None = None
    drives: list[DriveHealth] = []
    boot: Boot | None = None
    updates: KnownUpdates | None = None
    changes: list[Change] = []  # of packages and settings lately, the newest first
    deleted_files: list[DeletedFile] = []  # that still take room where little is left
    gateways: list[Gateway] = []  # to other networks, and whether they answer
    radio: list[RadioLink] = []  # the other end of each wireless link
    unix_pairs: list[UnixPair] = []  # connections within the computer
    log_ends: list[LogEnd] = []  # of logs that busy programs keep
    terminals: list[ShownTerminal] = []  # that busy programs show
    functions: list[FunctionSamples] = []  # that the busiest programs were found in


def survey(computer: OpenComputer, tick: int, now_s: float, *, is_last: bool) -> Survey:
    """Return one survey; ``now_s`` is seconds since 1970."""
    began_s = time.perf_counter()
    root, table = computer.root, computer.table
    if is_last:
        computer.ask_drives()
        computer.ask_functions()
    files = table.program_files() if is_last else []
    before_clk = table.used_now_clk(ASKED)
    people, time_sync, units = (
        read_people(root, now_s),
        read_time_sync(root),
        read_services(root, whole=is_last),
    )
    boot = read_boot(root) if is_last else None
    asked = {
        number: clk / computer.clock_ticks_per_s
        for number, clk in (table.used_now_clk(ASKED) - before_clk).items()
    }
    if not is_last:
        computer.start_entries = read_autostart(root, _homes(root))
    file_systems = read_file_systems(root)
    packages = _packages(computer) if is_last else []
    return Survey(
        tick=tick,
        is_last=is_last,
        asked_cpu_s=sum(asked.values()),
        asked=asked,
        file_systems=file_systems,
        swaps=root.parse("proc/swaps", parse_swaps, "swap areas") or [],
        sessions=people,
        locks=root.parse("proc/locks", parse_locks, "file locks") or [],
        rollups=table.largest(LARGEST),
        time_sync=time_sync,
        units=units,
        autostart=[] if is_last else computer.start_entries,
        packages=packages,
        replaced=[
            path
            for path in (file.removesuffix(DELETED) for file in files if file.endswith(DELETED))
            if root.exists(path)
        ],
        scheduling=computer.groups.scheduling(list(computer.quotas)) if is_last else None,
        memory_events=computer.groups.memory_events(table.groups()),
        frozen_groups=computer.groups.frozen(table.unit_groups()) if is_last else [],
        task_limits=computer.groups.task_limits(table.unit_groups()) if is_last else [],
        io_limits=computer.groups.io_limits(table.unit_groups()) if is_last else [],
        pending=read_pending(root) if is_last else None,
        updates=_updates(computer, packages) if is_last else None,
        boot=boot,
        changes=_changes(computer, now_s) if is_last else [],
        deleted_files=read_deleted_files(root, table.numbered(), file_systems) if is_last else [],
        gateways=read_gateways(root) if is_last else [],
        radio=read_radio(root) if is_last else [],
        unix_pairs=computer.sockets.unix_pairs(),
        log_ends=_log_ends(computer) if is_last else [],
        terminals=_terminals(computer) if is_last else [],
        drives=computer.drives_read() if is_last else [],
        functions=computer.code.functions() if is_last and computer.code else [],
        took_s=round(time.perf_counter() - began_s, 6),
    )


def _packages(computer: OpenComputer) -> list[Package]:
    """Return the packages of the living programs; most were looked up before the last tick."""
    ahead, computer.packages = computer.packages, None
    wanted, found = computer.table.program_paths(), ahead.packages() if ahead else []
    came = wanted - (ahead.executables if ahead else set())
    return [
        *(package for package in found if package.executable in wanted),
        *read_packages(computer.root, came),
    ]


def _updates(computer: OpenComputer, packages: list[Package]) -> KnownUpdates | None:
    busiest = computer.table.busiest_files(UPDATED_OF)
    return read_known_updates(
        computer.root, [package for package in packages if package.executable in busiest]
    )


def _log_ends(computer: OpenComputer) -> list[LogEnd]:
    table = computer.table
    working = table.working(SERVERS_OF, SERVER_CORES_LEAST)
    return read_log_ends(computer.root, working, table.number_of)


def _terminals(computer: OpenComputer) -> list[ShownTerminal]:
    table = computer.table
    working = table.working(SERVERS_OF, SERVER_CORES_LEAST)
    return read_shown_terminals(computer.root, working, table.numbered())


def begin_survey(computer: OpenComputer, now_s: float, until_s: float) -> None:
    """Begin with what the last survey takes, so that nobody waits for it after the last tick.

    ``until_s`` is when to be done, by the monotonic clock.
    """
    computer.read_ahead(until_s)
    # the questions to rpm's database cannot be cut into steps, so they wait
    if computer.clock.monotonic_s() + CHANGES_TAKE_S < until_s and not has_rpm(computer.root):
        computer.system_changes = _changes(computer, now_s)


def _changes(computer: OpenComputer, now_s: float) -> list[Change]:
    """Return the recent changes, once if they were read ahead."""
    ahead, computer.system_changes = computer.system_changes, None
    if ahead is not None:
        return ahead
    programs = computer.table.busiest_files(UPDATED_OF)
    files: list[tuple[str, ChangeKind]] = [
        (file.removesuffix(DELETED), "program") for file in sorted(programs)
    ]
    files += [
        (entry.file, "start-entry" if entry.kind == "desktop" else "job")
        for entry in computer.start_entries
    ]
    # logs name no zone: of this computer the system knows it, and when it was another one
    zone = None if computer.root.is_this_computer else computer.clock.now().tzinfo
    return read_changes(computer.root, now_s, zone, files)


def _homes(root: Root) -> list[Home]:
    return [
        Home(user.name, user.home, user.uid, user.gid)
        for user in read_users(root)
        if user.home and (is_person(user.uid) or user.uid == 0)
    ]
