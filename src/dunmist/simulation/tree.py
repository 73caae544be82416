"""The directory tree of a model computer, kept in step with it.

Files are rewritten in place, so that a reader that keeps them open sees the new text, as with the
kernel's own files.
"""

import os
from pathlib import Path

from dunmist.simulation import kernel_text, peripherals, sockets, user_space
from dunmist.simulation.model import ModelComputer, ModelProcess


class ComputerTree:
    """Writes proc, sys and etc of a model computer below a directory."""

    def __init__(self, model: ModelComputer, directory: Path) -> None:
        self._model = model
        self._directory = directory
        self._open: dict[str, int] = {}
        self._uids = {user.name: user.uid for user in model.scenario.users} | {"root": 0}
        self._write_still()
        for process in model.processes:
            self._write_process_facts(process)
        self.refresh()

    def refresh(self) -> None:
        """Write everything that moved since the last time."""
        model = self._model
        self._write("proc/stat", kernel_text.stat(model))
        self._write("proc/loadavg", kernel_text.loadavg(model))
        self._write("proc/uptime", kernel_text.uptime(model))
        self._write("proc/meminfo", kernel_text.meminfo(model))
        self._write("proc/vmstat", kernel_text.vmstat(model))
        self._write("proc/pressure/cpu", kernel_text.pressure(model.cpu_stalls))
        for number, processor in enumerate(model.processors):
            name = f"sys/devices/system/cpu/cpu{number}/cpufreq/scaling_cur_freq"
            self._write(name, f"{processor.khz}\n")
        for files in (peripherals.moving_files, kernel_text.group_files):
            for name, text in files(model):
                self._write(name, text)
        for process in model.processes:
            if process.changed:
                self._write_process(process)
                process.changed = False

    def close(self) -> None:
        """Close every file that is kept open."""
        for descriptor in self._open.values():
            os.close(descriptor)
        self._open.clear()

    def _write(self, name: str, text: str) -> None:
        data = text.encode()
        descriptor = self._open.get(name)
        if descriptor is None:
            path = self._directory / name
            path.parent.mkdir(parents=True, exist_ok=True)
            descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o644)
            self._open[name] = descriptor
        os.pwrite(descriptor, data, 0)
        os.ftruncate(descriptor, len(data))

    def _write_once(self, name: str, text: str | bytes) -> None:
        path = self._directory / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(text.encode() if isinstance(text, str) else text)

    def _write_still(self) -> None:
        scenario = self._model.scenario
        machine = scenario.machine
        self._write_once("proc/sys/kernel/hostname", f"{machine.host}\n")
        self._write_once("proc/sys/kernel/osrelease", f"{machine.kernel}\n")
        boot_id = "6d1f0c52-0b7e-4c39-9d0e-5a1e0fb3c604\n"
        self._write_once("proc/sys/kernel/random/boot_id", boot_id)
        self._write_once("proc/cpuinfo", kernel_text.cpuinfo(self._model))
        for resource in ("memory", "io"):
            nothing = kernel_text.pressure(type(self._model.cpu_stalls)())
            self._write_once(f"proc/pressure/{resource}", nothing)
        self._write_peripherals()
        users = "".join(
            f"{name}:x:{uid}:{uid}::/home/{name}:/bin/sh\n" for name, uid in self._uids.items()
        )
        self._write_once("etc/passwd", users)
        self._write_once("etc/os-release", f'PRETTY_NAME="{machine.distribution}"\n')
        per_package = machine.cores * machine.threads_per_core
        for number in range(len(self._model.processors)):
            directory = f"sys/devices/system/cpu/cpu{number}"
            core = (number % per_package) // machine.threads_per_core
            self._write_once(f"{directory}/topology/core_id", f"{core}\n")
            package = number // per_package
            for part in ("core", "package"):
                self._write_once(f"{directory}/thermal_throttle/{part}_throttle_count", "0\n")
            self._write_once(f"{directory}/topology/physical_package_id", f"{package}\n")
            for name, mhz in (("min", machine.min_mhz), ("max", machine.max_mhz)):
                self._write_once(f"{directory}/cpufreq/cpuinfo_{name}_freq", f"{mhz * 1000}\n")

    def _write_peripherals(self) -> None:
        model = self._model
        for files in (peripherals.still_files, user_space.user_space_files, sockets.tables):
            for name, text in files(model):
                self._write_once(name, text)
        if model.scenario.hardware.modules:
            self._write_once("sys/firmware/dmi/tables/DMI", peripherals.smbios_table(model))
        if model.scenario.logins:
            self._write_once("run/utmp", user_space.utmp(model))
        wants = self._directory / "etc/systemd/system/multi-user.target.wants"
        wants.mkdir(parents=True, exist_ok=True)
        for unit in dict.fromkeys(user_space.wanted_units(model)):
            (wants / unit).symlink_to(f"/usr/lib/systemd/system/{unit}")

    def _write_process_facts(self, process: ModelProcess) -> None:
        spec = process.spec
        directory = f"proc/{process.pid}"
        uid = self._uids[spec.user]
        self._write_once(f"{directory}/status", kernel_text.process_status(process, uid))
        self._write_once(f"{directory}/statm", kernel_text.process_statm(process))
        self._write_once(f"{directory}/cgroup", f"0::{spec.cgroup}\n")
        arguments = [] if spec.kernel else [_executable(spec.name), *spec.arguments]
        self._write_once(f"{directory}/limits", kernel_text.process_limits())
        self._write_once(f"{directory}/wchan", "0" if spec.kernel else "do_epoll_wait")
        self._write_once(f"{directory}/loginuid", str(uid if uid >= 1000 else 2**32 - 1))
        descriptors = self._directory / directory / "fd"
        descriptors.mkdir()
        for number, target in enumerate(sockets.descriptors(self._model, process)):
            (descriptors / str(number)).symlink_to(target)
        text = "".join(f"{argument}\0" for argument in arguments)
        self._write_once(f"{directory}/cmdline", text)
        if not spec.kernel:
            (self._directory / directory / "exe").symlink_to(_executable(spec.name))

    def _write_process(self, process: ModelProcess) -> None:
        directory = f"proc/{process.pid}"
        self._write(f"{directory}/stat", kernel_text.process_stat(process))
        if not process.spec.kernel:
            self._write(f"{directory}/io", kernel_text.process_io(process))
        for thread in process.threads:
            text = kernel_text.schedstat(thread.run_ns, thread.delay_ns)
            if thread.tid == process.pid:
                self._write(f"{directory}/schedstat", text)
            self._write(f"{directory}/task/{thread.tid}/schedstat", text)


def _executable(name: str) -> str:
    return f"/opt/skerrow/bin/{name}"
