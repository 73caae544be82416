"""The directory tree of a model computer, kept in step with it.

Files are rewritten in place, so that a reader that keeps them open sees the new text, as with the
kernel's own files. Only what can have changed is written.
"""

import fnmatch
import os
import shutil
from collections.abc import Iterable
from datetime import datetime
from pathlib import Path

from dunmist.simulation import (
    changes,
    drive_health,
    kernel_log,
    kernel_text,
    peripherals,
    process_text,
    sockets,
    user_space,
)
from dunmist.simulation.code_samples import RING, CodeSamples
from dunmist.simulation.model import ModelComputer
from dunmist.simulation.processes import ModelProcess

BOOT_ID = "6d1f0c52-0b7e-4c39-9d0e-5a1e0fb3c604"
# below the usual limit of 1,024 descriptors of a process
MOST_OPEN = 400


class ComputerTree:
    """Writes proc, sys and etc of a model computer below a directory."""

    def __init__(self, model: ModelComputer, directory: Path) -> None:
        self._model = model
        self._directory = directory
        self._open: dict[str, int] = {}
        self._known: dict[str, str] = {}
        self._made: set[str] = set()
        self._descriptors: dict[int, int] = {}
        self._numbers: dict[int, int] = {}
        self._code = CodeSamples(model)
        self._uids = {user.name: user.uid for user in model.scenario.users} | {"root": 0}
        self._write_still()
        self.refresh()

    def refresh(self) -> None:
        """Write everything that moved since the last time."""
        model = self._model
        for files in (
            kernel_text.moving_files,
            peripherals.moving_files,
            sockets.counters,
            kernel_log.log_files,
            user_space.file_system_room,
        ):
            self._write_all(files(model))
        self._write("netlink/sock_diag-tcp", sockets.recording(model))
        self._write(RING, self._code.ring())
        changed = model.processes.changed
        for process in model.processes.all:
            if changed[process.index]:
                self._write_process(process)
        changed[:] = False

    def close(self) -> None:
        """Close every file that is kept open."""
        for descriptor in self._open.values():
            os.close(descriptor)
        self._open.clear()

    def _write_all(self, files: Iterable[tuple[str, str | bytes]], below: str = "") -> None:
        for name, text in files:
            self._write(below + name, text)

    def _write(self, name: str, text: str | bytes) -> None:
        if self._known.get(name) == text or self._is_hidden(name):
            return
        data = text.encode() if isinstance(text, str) else text
        descriptor = self._open.get(name)
        kept = descriptor is not None
        if descriptor is None:
            descriptor = self._create(name)
        os.pwrite(descriptor, data, 0)
        os.ftruncate(descriptor, len(data))
        if isinstance(text, str):
            # a file that is written a second time is likely to be written again
            if not kept and name in self._known and len(self._open) < MOST_OPEN:
                self._open[name] = descriptor
                kept = True
            self._known[name] = text
        if not kept:
            os.close(descriptor)

    def _create(self, name: str) -> int:
        parent = name.rpartition("/")[0]
        if parent not in self._made:
            (self._directory / parent).mkdir(parents=True, exist_ok=True)
            self._made.add(parent)
        flags = os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC
        return os.open(f"{self._directory}/{name}", flags, 0o644)

    def _is_hidden(self, name: str) -> bool:
        return any(fnmatch.fnmatch(name, pattern) for pattern in self._model.scenario.hidden)

    def _write_still(self) -> None:
        model, machine = self._model, self._model.scenario.machine
        self._write("proc/sys/kernel/hostname", f"{machine.host}\n")
        self._write("proc/sys/kernel/osrelease", f"{machine.kernel}\n")
        self._write("proc/sys/kernel/random/boot_id", f"{BOOT_ID}\n")
        self._write("proc/cpuinfo", kernel_text.cpuinfo(model))
        users = "".join(
            f"{name}:x:{uid}:{uid}::/home/{name}:/bin/sh\n" for name, uid in self._uids.items()
        )
        self._write("etc/passwd", users)
        groups = "".join(f"{name}:x:{uid}:\n" for name, uid in self._uids.items())
        self._write("etc/group", groups)
        self._write("etc/os-release", f'PRETTY_NAME="{machine.distribution}"\n')
        for files in (
            peripherals.still_files,
            user_space.user_space_files,
            sockets.tables,
            drive_health.health_files,
            user_space.boot_words,
            changes.change_files,
        ):
            self._write_all(files(model))
        if model.scenario.hardware.modules:
            self._write("sys/firmware/dmi/tables/DMI", peripherals.smbios_table(model))
        if model.scenario.logins:
            self._write("run/utmp", user_space.utmp(model))
        self._write("var/log/wtmp", user_space.wtmp(model))
        self._write_all(user_space.installed_kernels(model))
        crashes = dict(user_space.crash_records(model))
        self._write_all((name, text) for name, (text, _) in crashes.items())
        for name, ago_s in (
            ("run/reboot-required", model.scenario.restart_asked_s),
            (user_space.UPDATES, model.scenario.lists_fetched_s),
            *((name, ago_s) for name, (_, ago_s) in crashes.items()),
        ):
            if ago_s is not None and (self._directory / name).exists():
                at_s = datetime.fromisoformat(machine.started).timestamp() - ago_s
                os.utime(self._directory / name, (at_s, at_s))
        for name, at_s in changes.changed_at(model):
            os.utime(self._directory / name, (at_s, at_s))
        wants = self._directory / "etc/systemd/system/multi-user.target.wants"
        wants.mkdir(parents=True, exist_ok=True)
        for unit in dict.fromkeys(user_space.wanted_units(model)):
            (wants / unit).symlink_to(f"/usr/lib/systemd/system/{unit}")
        for name, target in peripherals.device_links(model):
            self._link(name, target)
        self._write_all(self._code.still_files())
        self._write_processors()

    def _write_processors(self) -> None:
        machine = self._model.scenario.machine
        per_package = machine.cores * machine.threads_per_core
        for number in range(len(self._model.processors)):
            directory = f"sys/devices/system/cpu/cpu{number}"
            core = (number % per_package) // machine.threads_per_core
            self._write(f"{directory}/topology/core_id", f"{core}\n")
            self._write(f"{directory}/topology/physical_package_id", f"{number // per_package}\n")
            self._write(f"{directory}/cpufreq/scaling_governor", "schedutil\n")
            most = self._model.most_mhz(number)
            limit = min(most, machine.clock_limit_mhz or most)
            for name, mhz in (
                ("cpuinfo_min", machine.min_mhz),
                ("cpuinfo_max", most),
                ("scaling_max", limit),
            ):
                self._write(f"{directory}/cpufreq/{name}_freq", f"{mhz * 1000}\n")

    def _write_process(self, process: ModelProcess) -> None:
        directory = f"proc/{process.pid}/"
        before = self._numbers.get(process.index)
        if before != process.pid:
            if before is not None:
                self._forget(f"proc/{before}/")
            self._numbers[process.index] = process.pid
            uid = self._uids[process.spec.user]
            self._write_all(process_text.still_files(process, uid), directory)
            if process.spec.code:
                self._write(f"{directory}maps", self._code.mappings(process.spec))
            if not process.spec.kernel and not process.defunct:
                deleted = " (deleted)" if process.spec.deleted else ""
                target = process_text.executable(process) + deleted
                self._link(f"{directory}exe", target)
        self._write_all(process_text.moving_files(self._model, process), directory)
        self._write_descriptors(process, directory)

    def _write_descriptors(self, process: ModelProcess, directory: str) -> None:
        count = int(self._model.processes.figures["descriptors"][process.index])
        key = process.pid
        if self._descriptors.get(key) == count or self._is_hidden(f"{directory}fd/0"):
            return
        descriptors = self._directory / directory / "fd"
        descriptors.mkdir(parents=True, exist_ok=True)
        held = sockets.descriptors(self._model, process)
        for number in range(self._descriptors.get(key, 0), len(held)):
            (descriptors / str(number)).symlink_to(held[number])
        self._descriptors[key] = count

    def _link(self, name: str, target: str) -> None:
        if not self._is_hidden(name):
            (self._directory / name).symlink_to(target)

    def _forget(self, directory: str) -> None:
        """Take away the directory of a process that ended."""
        for name in [name for name in self._open if name.startswith(directory)]:
            os.close(self._open.pop(name))
        for name in [name for name in self._known if name.startswith(directory)]:
            del self._known[name]
        self._made = {name for name in self._made if not f"{name}/".startswith(directory)}
        shutil.rmtree(self._directory / directory)
