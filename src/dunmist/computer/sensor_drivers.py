"""Drivers of sensors that this computer would need and that are not there.

Sources: ``Documentation/hwmon/`` for which driver reads what; modprobe(8), depmod(8) and
``modules.alias`` for what is installed for this very hardware, ``/sys/module`` for what is loaded.
Nothing is loaded here.
"""

import fnmatch
import re
from collections.abc import Iterator
from typing import Literal

import msgspec

from dunmist.computer.disks import Disk
from dunmist.computer.parsing import lines_of, parse_text, text_of
from dunmist.computer.root import Root
from dunmist.computer.sensors import Sensor

Of = Literal["processor", "drives", "board"]
# by the maker that the processor itself names (Documentation/hwmon/{coretemp,k10temp,via-cputemp})
OF_PROCESSOR = {
    "GenuineIntel": "coretemp",
    "AuthenticAMD": "k10temp",
    "CentaurHauls": "via_cputemp",
}
OF_ATA_DRIVES = "drivetemp"
_VENDOR = re.compile(rb"^vendor_id\s*:\s*(\S+)", re.M)
_ATA = re.compile(r"sd[a-z]+\Z")
BOARD_ALIASES = "sys/class/dmi/id/modalias", "dmi:"
WMI_DEVICES, WMI = "sys/bus/wmi/devices", "wmi:"
HWMON = "/drivers/hwmon/"
# room for all modules of a usual kernel
ALIASES_MOST = 20_000


class SensorDriver(msgspec.Struct, frozen=True):
    """A driver that is not loaded, what it would show, and whether it is installed."""

    module: str
    of: Of
    is_installed: bool


def read_missing_drivers(
    root: Root, sensors: list[Sensor], disks: list[Disk], *, virtual: bool
) -> list[SensorDriver]:
    """Return the drivers that would show what no sensor shows; a guest has no hardware to read."""
    if virtual:
        return []
    wanted = dict(_wanted(root, sensors, disks))
    if not wanted:
        return []
    release = root.parse("proc/sys/kernel/osrelease", parse_text, "kernel", may_be_absent=True)
    installed = _installed(root, release or "")
    wanted |= {
        module: "board"
        for module in _for_this_board(root, release or "", installed)
        if module not in wanted
    }
    missing = [
        SensorDriver(module, of, module in installed)
        for module, of in wanted.items()
        if not root.exists(f"sys/module/{module}")
    ]
    # that the processor's own temperature is missing is worth a word even where nothing loads it
    return [driver for driver in missing if driver.is_installed or driver.of == "processor"]


def _wanted(root: Root, sensors: list[Sensor], disks: list[Disk]) -> Iterator[tuple[str, Of]]:
    chips = {sensor.chip for sensor in sensors}
    match = _VENDOR.search(root.parse("proc/cpuinfo", bytes, "processor model") or b"")
    own = OF_PROCESSOR.get(text_of(match[1])) if match else None
    if own is not None and own not in chips:
        yield own, "processor"
    if OF_ATA_DRIVES not in chips and any(_ATA.match(disk.name) for disk in disks):
        yield OF_ATA_DRIVES, "drives"


def _installed(root: Root, release: str) -> dict[str, str]:
    """Return the modules of the running kernel with their paths."""
    paths = []
    for name in ("modules.dep", "modules.builtin"):
        data = root.parse(f"lib/modules/{release}/{name}", bytes, "modules", may_be_absent=True)
        paths += [text_of(line.partition(b":")[0]) for line in lines_of(data or b"")]
    return {_module_of(path): path for path in paths}


def _module_of(path: str) -> str:
    # the kernel writes a module's name with underscores, its file may have hyphens
    return path.rpartition("/")[2].partition(".ko")[0].replace("-", "_")


def _for_this_board(root: Root, release: str, installed: dict[str, str]) -> Iterator[str]:
    """Yield drivers of hwmon that say of themselves that they are for this board."""
    own = [root.parse(BOARD_ALIASES[0], parse_text, "firmware tables", may_be_absent=True) or ""]
    own += [WMI + name.partition("-0")[0] for name in root.names(WMI_DEVICES)]
    data = root.parse(f"lib/modules/{release}/modules.alias", bytes, "modules", may_be_absent=True)
    for line in lines_of(data or b"")[:ALIASES_MOST]:
        if not line.startswith((b"alias dmi", b"alias wmi")):
            continue
        _, pattern, module = [*text_of(line).split(" "), "", ""][:3]
        path = installed.get(module.replace("-", "_"), "")
        if HWMON in path and any(fnmatch.fnmatchcase(alias, pattern) for alias in own if alias):
            yield module.replace("-", "_")
