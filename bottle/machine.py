"""The computer in the bottle while it runs: emulated hardware, and orders to the agent inside.

Its disks are thrown away when it is switched off. Everything has a time limit, in seconds of the
computer outside: inside, computing is some 3 times slower and a system call some 30 times.
"""

import base64
import json
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

BOOT_LONGEST_S = 400.0
ORDER_LONGEST_S = 300.0
MEMORY_MIB = 1536
PROCESSORS = 2


class Said(NamedTuple):
    """What came of a script: ``status`` is None when it was ended for taking too long."""

    status: int | None
    out: str
    err: str


class Bottle:
    """Switched on as a context; ``run``, ``write`` and ``read`` are orders to the agent.

    A small one has one processor, and a disk that moves ``disk_bytes_per_s`` at most.
    """

    def __init__(self, place, memory_mib=MEMORY_MIB, processors=PROCESSORS, disk_bytes_per_s=0):
        self._place, self._memory_mib = place, memory_mib
        self._processors, self._disk_bytes_per_s = processors, disk_bytes_per_s

    def __enter__(self):
        self._folder = Path(tempfile.mkdtemp(prefix="bottle-"))
        neck = self._folder / "neck"
        for name, mib in (("nvme", 1536), ("ata", 256), ("slow", 256)):
            with (self._folder / name).open("wb") as file:
                file.truncate(mib << 20)
        self._qemu = subprocess.Popen(
            [*self._hardware(), "-chardev", f"socket,id=neck,path={neck},server=on,wait=off"],
            stdout=subprocess.DEVNULL,
            stderr=(self._folder / "errors").open("wb"),
            stdin=subprocess.DEVNULL,
        )
        try:
            self._connect(neck)
        except BaseException:
            self.__exit__()
            raise
        return self

    def __exit__(self, *_):
        self._qemu.kill()
        self._qemu.wait()
        shutil.rmtree(self._folder, ignore_errors=True)

    def _hardware(self):
        place, folder = self._place, self._folder
        return [
            "qemu-system-x86_64",
            "-machine",
            "q35",
            "-accel",
            "tcg,thread=multi",
            "-cpu",
            "max",
            "-smp",
            str(self._processors),
            "-m",
            str(self._memory_mib),
            "-no-reboot",
            "-display",
            "none",
            "-kernel",
            str(place / "vmlinuz"),
            "-initrd",
            str(place / "initrd.img"),
            "-append",
            "root=/dev/vda rw console=ttyS0 quiet psi=1 mitigations=off",
            "-qmp",
            f"unix:{folder / 'monitor'},server=on,wait=off",
            "-serial",
            f"file:{folder / 'serial'}",
            "-monitor",
            "none",
            "-drive",
            f"file={place / 'disk.img'},format=raw,if=virtio,snapshot=on,"
            f"throttling.bps-total={self._disk_bytes_per_s}",
            "-drive",
            f"file={folder / 'nvme'},format=raw,if=none,id=nvme",
            "-device",
            "nvme,drive=nvme,serial=SKNVME1",
            "-drive",
            f"file={folder / 'ata'},format=raw,if=none,id=ata",
            "-device",
            "ide-hd,bus=ide.0,drive=ata,serial=SKATA1,rotation_rate=5400",
            "-drive",
            f"file={folder / 'slow'},format=raw,if=none,id=slow,cache=none,"
            "throttling.iops-total=25",
            "-device",
            "ide-hd,bus=ide.1,drive=slow,serial=SKSLOW1,rotation_rate=5400",
            "-nic",
            "user,model=e1000,restrict=on",
            "-smbios",
            "type=1,manufacturer=Skerrow Workshop,product=Bench Two,version=1",
            "-smbios",
            "type=2,manufacturer=Skerrow Workshop,product=SW-Board",
            "-smbios",
            "type=17,manufacturer=Skerrow Workshop,speed=2400,part=SW-DIMM,loc_pfx=slot",
            "-acpitable",
            f"file={place / 'hardware.aml'}",
            "-device",
            "virtio-serial",
            "-device",
            "virtserialport,chardev=neck,name=bottle",
        ]

    def _connect(self, neck):
        deadline_s = time.monotonic() + BOOT_LONGEST_S
        while not neck.exists() and time.monotonic() < deadline_s:
            if self._qemu.poll() is not None:
                break
            time.sleep(0.2)
        self._socket = socket.socket(socket.AF_UNIX)
        self._socket.settimeout(BOOT_LONGEST_S)
        try:
            self._socket.connect(str(neck))
        except OSError:
            said = (self._folder / "errors").read_text(errors="replace").strip()
            raise SystemExit(f"bottle: it could not be switched on: {said}") from None
        self._lines = self._socket.makefile("rb")
        try:
            if not json.loads(self._lines.readline() or b"{}").get("ready"):
                raise SystemExit("bottle: it went off while it booted")
        except TimeoutError:
            serial = (self._folder / "serial").read_text(errors="replace")[-600:]
            raise SystemExit(f"bottle: not booted after {BOOT_LONGEST_S:g} s: {serial}") from None

    def _order(self, order, longest_s=ORDER_LONGEST_S):
        self._socket.settimeout(longest_s)
        self._socket.sendall(json.dumps(order).encode() + b"\n")
        said = json.loads(self._lines.readline())
        if "failed" in said:
            raise OSError(said["failed"])
        return said

    def run(self, script, person=None, longest_s=120.0):
        """Run a script of the shell as administrator, or as a person."""
        order = {"script": script, "person": person, "longest_s": longest_s}
        return Said(**self._order(order, longest_s + ORDER_LONGEST_S))

    def do(self, script, **how):
        """Run a script that must succeed, and return what it wrote."""
        said = self.run(script, **how)
        if said.status:
            raise RuntimeError(f"inside the bottle: {script!r}: {said.err.strip()[-500:]}")
        return said.out

    def write(self, name, data, mode=0o644):
        """Write a file inside."""
        self._order({"write": name, "data": base64.b64encode(data).decode(), "mode": mode})

    def read(self, name):
        """Read a file from inside."""
        return base64.b64decode(self._order({"read": name})["data"])

    def wake_after(self, seconds):
        """Press the key that wakes the computer from its sleep, in some seconds."""
        time.sleep(seconds)
        with socket.socket(socket.AF_UNIX) as monitor:
            monitor.connect(str(self._folder / "monitor"))
            lines = monitor.makefile("rb")
            lines.readline()
            for order in ("qmp_capabilities", "system_wakeup"):
                monitor.sendall(json.dumps({"execute": order}).encode() + b"\n")
                lines.readline()

    def stop_for(self, seconds):
        """Let the whole computer stand still for a while, as a host that is suspended does."""
        self._qemu.send_signal(signal.SIGSTOP)
        time.sleep(seconds)
        self._qemu.send_signal(signal.SIGCONT)
