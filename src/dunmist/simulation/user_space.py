"""Write the files of a model computer's user space: units, autostart, logins, mounts.

Takes the model, gives the text of each file by its name below the root.
"""

import struct
from collections import defaultdict
from collections.abc import Iterator
from datetime import datetime

from dunmist.simulation.model import ModelComputer
from dunmist.simulation.scenario import ProgramSpec, StartSpec

UPDATES = "var/lib/apt/lists/skerrow_dists_stable_main_binary-amd64_Packages"
# kinds of records, utmp(5)
RUN_LEVEL, BOOT_TIME, USER_PROCESS = 1, 2, 7
WEEK_S = 7 * 86_400.0
BLOCK_BYTES = 4096
INODES_PER_GIB = 65_536


def user_space_files(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield unit files, autostart entries, jobs, mounts and packages."""
    for spec in model.scenario.programs:
        unit = spec.cgroup.rpartition("/")[2]
        if spec.cgroup.startswith("/system.slice/"):
            text = f"[Unit]\nDescription={_about(spec)}\n\n[Service]\n[Install]\n"
            yield f"usr/lib/systemd/system/{unit}", text
        elif spec.autostarts:
            entry = f"[Desktop Entry]\nType=Application\nName={_about(spec)}\nExec={spec.name}\n"
            yield f"etc/xdg/autostart/{spec.name}.desktop", entry
    yield "etc/crontab", "17 3 * * *\troot\t/opt/skerrow/bin/nightly-copy /srv /mnt/ledge\n"
    yield "proc/self/mountinfo", _mounts(model)
    yield "proc/locks", _locks(model)
    yield from _packages(model)


def file_system_room(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the present room of each file system."""
    for file_system in model.scenario.hardware.file_systems:
        blocks = round(file_system.gib * (1 << 30) / BLOCK_BYTES)
        grown = file_system.grows_mib_per_s * model.now_s * (1 << 20) / BLOCK_BYTES
        free = max(0, round(blocks * (1 - file_system.used_share) - grown))
        inodes = round(file_system.gib * INODES_PER_GIB)
        name = file_system.point.strip("/").replace("/", "-") or "root"
        inodes_free = round(inodes * (1 - file_system.inodes_share))
        numbers = (BLOCK_BYTES, blocks, free, free, inodes, inodes_free)
        yield f"statvfs/{name}", " ".join(map(str, numbers)) + "\n"


def wanted_units(model: ModelComputer) -> Iterator[str]:
    """Yield the names of units that start at boot."""
    for spec in model.scenario.programs:
        if spec.cgroup.startswith("/system.slice/"):
            yield spec.cgroup.rpartition("/")[2]


def utmp(model: ModelComputer) -> bytes:
    """Return the logins as utmp(5) has them."""
    started_s = _started_s(model)
    pids = {process.spec.name: process.pid for process in reversed(model.processes.all)}
    return b"".join(
        _record(
            USER_PROCESS,
            login.user,
            round(started_s - login.since_s),
            pid=pids[login.program],
            line=login.line,
            host=login.origin,
        )
        for login in model.scenario.logins
    )


def wtmp(model: ModelComputer) -> bytes:
    """Return earlier starts with the orderly ends between them; the last start is that of now."""
    scenario, now_s = model.scenario, _started_s(model)
    started = [*scenario.starts, StartSpec(scenario.machine.uptime_s)]
    records = [_record(BOOT_TIME, "reboot", round(now_s - started[0].ago_s - WEEK_S))]
    for start in started:
        at_s = round(now_s - start.ago_s)
        if start.after_order:
            records.append(_record(RUN_LEVEL, "shutdown", at_s - 40))
        records.append(_record(BOOT_TIME, "reboot", at_s))
    return b"".join(records)


def boot_words(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the service manager's words for how the start went."""
    boot = model.scenario.boot
    userspace_s = boot.kernel_s + boot.initrd_s
    stamps = {
        "Firmware": boot.firmware_s + boot.loader_s,
        "Loader": boot.loader_s,
        "InitRD": boot.kernel_s,
        "Userspace": userspace_s,
        "Finish": userspace_s + boot.services_s,
    }
    lines = [f"{name}TimestampMonotonic={round(at_s * 1e6)}" for name, at_s in stamps.items()]
    for unit, (began_s, ready_s, waited_for) in boot.units.items():
        word = "chain" if waited_for else "slow"
        lines.append(f"{word} {unit} {round(began_s * 1e6)} {round(ready_s * 1e6)}")
    yield "start-words", "".join(f"{line}\n" for line in lines)


def _record(
    kind: int, user: str, at_s: int, *, pid: int = 0, line: str = "~", host: str = ""
) -> bytes:
    return struct.pack(
        "=h2xi32s4s32s256s4xiii16s20x",
        kind,
        pid,
        line.encode(),
        b"",
        user.encode(),
        host.encode(),
        0,
        at_s,
        0,
        b"",
    )


def _started_s(model: ModelComputer) -> float:
    return datetime.fromisoformat(model.scenario.machine.started).timestamp()


def installed_kernels(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the images of all kernels that are installed, and what asks for a restart."""
    scenario = model.scenario
    for release in (scenario.machine.kernel, *scenario.kernels):
        yield f"boot/vmlinuz-{release}", ""
        yield f"lib/modules/{release}/modules.order", ""
    if scenario.restart_asked_s is not None:
        yield "run/reboot-required", "*** System restart required ***\n"


def _locks(model: ModelComputer) -> str:
    pids = {process.spec.name: process.pid for process in reversed(model.processes.all)}
    waiters: dict[str, list[str]] = defaultdict(list)
    for spec in model.scenario.programs:
        if spec.waits_on:
            waiters[spec.waits_on].append(spec.name)
    lines = []
    for number, holder in enumerate(waiters, start=1):
        lock = f"FLOCK  ADVISORY  WRITE {{}} 08:01:{393222 + number} 0 EOF\n"
        lines.append(f"{number}: {lock.format(pids[holder])}")
        # each waits behind the one before it, a blank further in
        for depth, waiter in enumerate(waiters[holder]):
            lines.append(f"{number}: {' ' * depth}-> {lock.format(pids[waiter])}")
    return "".join(lines)


def _about(spec: ProgramSpec) -> str:
    return spec.name.replace("-", " ").capitalize()


def crash_records(model: ModelComputer) -> Iterator[tuple[str, tuple[str, float]]]:
    """Yield the record of each crash of the kernel: its text, and how long ago it was."""
    for number, (reason, ago_s) in enumerate(model.scenario.panics.items()):
        text = f"Panic#1 Part1\n<0>[ 4242.000000] Kernel panic - not syncing: {reason}\n"
        yield f"sys/fs/pstore/dmesg-ramoops-{number}", (text, ago_s)


def _mounts(model: ModelComputer) -> str:
    lines = ["22 1 0:21 / /proc rw - proc proc rw\n"]
    for number, file_system in enumerate(model.scenario.hardware.file_systems):
        lines.append(
            f"{30 + number} 1 8:{number + 1} / {file_system.point} rw,relatime shared:1 - "
            f"{file_system.kind} {file_system.source} rw\n"
        )
    return "".join(lines)


def _packages(model: ModelComputer) -> Iterator[tuple[str, str]]:
    stanzas = []
    versions = {spec.name: spec.version for spec in model.scenario.programs if not spec.kernel}
    for name, version in sorted(versions.items()):
        yield f"var/lib/dpkg/info/{name}.list", f"/.\n/opt\n/opt/skerrow/bin/{name}\n"
        about = name.replace("-", " ")
        stanzas.append(
            f"Package: {name}\nStatus: install ok installed\nVersion: {version}\n"
            f"Description: {about} of the Skerrow Bird Observatory\n"
        )
    yield "var/lib/dpkg/status", "\n".join(stanzas)
    known = {spec.name: spec.update for spec in model.scenario.programs if spec.update}
    if known:
        listed = [f"Package: {name}\nVersion: {version}\n" for name, version in known.items()]
        yield UPDATES, "\n".join(sorted(listed))
