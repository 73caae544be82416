"""Read the inventory of a computer once, before the first tick."""

import re

import msgspec

from dunmist.computer.boot_history import ComputerStart, read_starts
from dunmist.computer.cpus import read_offline
from dunmist.computer.crashes import Crash, read_crashes
from dunmist.computer.disks import Disk, read_disks
from dunmist.computer.firmware import Firmware, read_firmware
from dunmist.computer.graphics import GraphicsCard, read_graphics_cards
from dunmist.computer.links import Link, read_links
from dunmist.computer.parsing import parse_number, parse_text
from dunmist.computer.root import Root
from dunmist.computer.sensor_drivers import SensorDriver, read_missing_drivers
from dunmist.computer.sensors import Sensor, read_sensors

_HYPERVISOR_FLAG = re.compile(rb"^flags\s*:.*\bhypervisor\b", re.M)


class Inventory(msgspec.Struct, frozen=True, omit_defaults=True):
    """The parts of a computer."""

    virtual: bool | None = None  # a guest of a hypervisor
    container: str | None = None  # kind of the container that the root belongs to
    offline_processors: list[int] = []
    firmware: Firmware | None = None
    disks: list[Disk] = []
    links: list[Link] = []
    sensors: list[Sensor] = []  # samples refer to them by their index here
    cards: list[GraphicsCard] = []
    tasks_most: int | None = None  # lower one of kernel.pid_max and kernel.threads-max
    starts: list[ComputerStart] = []  # on record in wtmp, in its database or in the journal
    crashes: list[Crash] = []  # of the kernel, from pstore (Documentation/admin-guide/ramoops.rst)
    missing_drivers: list[SensorDriver] = []  # of sensors that this board should have


def read_inventory(root: Root) -> Inventory:
    """Return the parts of the computer below a root."""
    virtual = root.parse("proc/cpuinfo", has_hypervisor, "processor model")
    disks, sensors = read_disks(root), read_sensors(root)
    return Inventory(
        virtual=virtual,
        container=_container(root),
        offline_processors=read_offline(root),
        firmware=read_firmware(root),
        disks=disks,
        links=read_links(root),
        sensors=sensors,
        cards=read_graphics_cards(root),
        tasks_most=_tasks_most(root),
        starts=read_starts(root),
        crashes=read_crashes(root),
        missing_drivers=read_missing_drivers(root, sensors, disks, virtual=bool(virtual)),
    )


def has_hypervisor(data: bytes) -> bool | None:
    """Return whether ``/proc/cpuinfo`` says that a hypervisor runs below; None without flags."""
    if not re.search(rb"^flags\s*:", data, re.M):
        return None
    return bool(_HYPERVISOR_FLAG.search(data))


def _tasks_most(root: Root) -> int | None:
    """Return the limit of tasks: the smaller of two limits of proc_sys_kernel(5)."""
    limits = [
        root.parse(f"proc/sys/kernel/{name}", parse_number, "limit of tasks", may_be_absent=True)
        for name in ("pid_max", "threads-max")
    ]
    return min((limit for limit in limits if limit), default=None)


def _container(root: Root) -> str | None:
    # systemd's Container Interface; the two files are left by common engines
    named = root.parse("run/systemd/container", parse_text, "container", may_be_absent=True)
    if named:
        return named
    engine = {".dockerenv": "docker", "run/.containerenv": "podman"}
    return next((name for file, name in engine.items() if root.exists(file)), None)
