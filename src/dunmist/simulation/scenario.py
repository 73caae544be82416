"""Scenario files: a machine, its programs, and the truth about what is wrong with it.

One TOML file a patient lies in ``scenarios/``; all play in the Skerrow Bird Observatory.
"""

import tomllib
from difflib import get_close_matches
from importlib.resources import files
from typing import Literal

import msgspec

from dunmist.errors import UnknownName

DEFAULT_SCENARIO = "nest-cameras"
Behaviour = Literal["steady", "bursty", "start-up", "idle"]


class MachineSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The computer. Clocks are in MHz, memory in MiB."""

    host: str
    model: str
    packages: int
    cores: int
    threads_per_core: int
    min_mhz: int
    max_mhz: int
    memory_mib: int
    cache_mib: int
    kernel_mib: int
    uptime_s: float
    started: str
    distribution: str
    kernel: str


class UserSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One user of the computer."""

    name: str
    uid: int


class ProgramSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A program and how its processes behave.

    ``demand_cores`` is what each thread wants; ``peers`` are further processes of the same kind,
    children of the first. ``children_per_s`` are short-lived ones of ``child_cpu_s`` each.
    ``listens`` are TCP ports open to the network, ``talks_to`` other ends as ``address:port``.
    """

    name: str
    arguments: list[str] = []
    user: str = "root"
    parent: str | None = None
    cgroup: str = "/system.slice"
    kernel: bool = False
    behaviour: Behaviour = "idle"
    demand_cores: float = 0.0
    threads: int = 1
    peers: int = 0
    nice: int = 0
    system_share: float = 0.15
    private_mib: float = 4.0
    shared_mib: float = 6.0
    children_per_s: float = 0.0
    child_cpu_s: float = 0.0
    read_mib_per_s: float = 0.0
    write_mib_per_s: float = 0.0
    listens: list[int] = []
    talks_to: list[str] = []


class ModuleSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One memory slot; 0 MiB is an empty one. Speeds in millions of transfers a second."""

    slot: str
    mib: int = 0
    rated_mtps: int = 3200
    configured_mtps: int = 3200


class SensorSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One hwmon channel in SI units: its reading at rest, and what full load adds in the end."""

    chip: str
    channel: str
    label: str | None = None
    at_rest: float = 0.0
    at_load: float = 0.0
    critical: float | None = None
    settles_s: float = 20.0


class DiskSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One disk; ``mib_per_s`` is what it moves when it does nothing else."""

    name: str
    model: str
    gib: int
    spins: bool = False
    mib_per_s: float = 450.0


class LinkSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One network link."""

    name: str
    mbit_per_s: int | None = None
    wireless: bool = False
    is_default: bool = False
    up: bool = True


class FileSystemSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One mounted file system."""

    point: str
    kind: str
    source: str
    gib: float
    used_share: float


class BatterySpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A battery in watts and watt-hours."""

    design_wh: float
    full_wh: float
    charged_share: float
    drain_w: float
    cycles: int


class LoginSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Somebody who is logged in since so many seconds."""

    user: str
    line: str
    since_s: float
    origin: str = ""
    program: str = "init"


class Hardware(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the computer consists of besides processors."""

    maker: str = "Skerrow Workshop"
    system: str = "Guillemot"
    modules: list[ModuleSpec] = []
    sensors: list[SensorSpec] = []
    disks: list[DiskSpec] = []
    links: list[LinkSpec] = []
    file_systems: list[FileSystemSpec] = []
    battery: BatterySpec | None = None


class Truth(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What is really wrong: the limiting resource (None: nothing) and the culprit's name."""

    limiting: str | None = None
    culprit: str | None = None


class Scenario(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One patient."""

    story: str
    machine: MachineSpec
    truth: Truth
    users: list[UserSpec]
    programs: list[ProgramSpec]
    hardware: Hardware = Hardware()
    logins: list[LoginSpec] = []


def scenario_names() -> list[str]:
    """Return the names of all patients."""
    folder = files("dunmist.simulation") / "scenarios"
    return sorted(one.name.removesuffix(".toml") for one in folder.iterdir())


def load_scenario(name: str) -> Scenario:
    """Return a patient by name; raises UnknownName with the nearest right one."""
    names = scenario_names()
    if name not in names:
        near = get_close_matches(name, names, n=1)
        hint = f"did you mean '{near[0]}'?" if near else f"choose from {', '.join(names)}"
        raise UnknownName(f"there is no scenario '{name}'; {hint}")
    file = files("dunmist.simulation") / "scenarios" / f"{name}.toml"
    return msgspec.convert(tomllib.loads(file.read_text(encoding="utf-8")), Scenario)
