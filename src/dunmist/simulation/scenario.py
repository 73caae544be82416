"""Scenario files: a machine, its programs, what is wrong with it, and the truth about that.

One TOML file a patient lies in ``scenarios/``; it names a computer from ``computers/``, whose
machine, hardware and usual programs it takes over, and says what differs. All play in the Skerrow
Bird Observatory. The rooms that judge never see any of this.
"""

import tomllib
from difflib import get_close_matches
from functools import cache
from importlib.resources import files
from typing import Any, Literal

import msgspec

from dunmist.errors import UnknownName

DEFAULT_SCENARIO = "cliff-top-laptop"
Pattern = Literal["steady", "bursty", "start-up", "idle"]
Driver = Literal["heat", "paging", "disk", "interrupts"]


class Spec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Base of all parts of a scenario: a word that is none is an error."""


class MachineSpec(Spec, frozen=True):
    """The computer. Clocks are in MHz, memory in MiB.

    ``clock_limit_mhz`` pins the clock below its maximum. ``stolen_share`` is what a hypervisor
    takes away of each CPU. ``interrupts_per_s`` come from one device. ``swap_used_mib`` lies in
    swap from earlier and is not wanted back. ``small_cores``, the last ones, reach
    ``small_max_mhz`` only. With ``compressed_swap`` swap is a part of memory in which pages take
    less room, and no disk.
    """

    host: str
    model: str
    cores: int
    min_mhz: int
    max_mhz: int
    memory_mib: int
    kernel_mib: int
    started: str
    distribution: str
    kernel: str
    packages: int = 1
    threads_per_core: int = 1
    cache_mib: int = 1500
    swap_mib: int = 2048
    swap_used_mib: int = 0
    uptime_s: float = 93_600.0
    clock_limit_mhz: int | None = None
    stolen_share: float = 0.0
    interrupts_per_s: float = 0.0
    interrupt_source: str = "xhci_hcd"
    oom_kills_per_s: float = 0.0
    small_cores: int = 0
    small_max_mhz: int = 2000
    compressed_swap: bool = False


class UserSpec(Spec, frozen=True):
    """One user of the computer."""

    name: str
    uid: int


class ProgramSpec(Spec, frozen=True):
    """A program and how its processes behave; rates are what each process wants.

    ``demand_cores`` is what each thread wants; ``peers`` are further processes of the same kind,
    children of the first, which then only hands out work. ``children_per_s`` are short-lived ones
    of ``child_cpu_s`` each. ``busy_threads`` of the ``threads`` work, the others sleep.
    ``touched_share`` of its memory is used all the time. Requests to the disk are of
    ``request_kib``. ``waits_on`` names the program whose lock it needs. ``state`` D or T is one
    that never changes. A service with ``restarts_every_s`` dies and is started again. ``driver``
    makes the demand follow something else: a kernel task that is busy because of heat, say.
    What its control group lets it have beyond ``memory_limit_mib`` lies in swap.
    ``age_s`` is how long it has run when the capture begins, None for since the computer started.
    ``version`` is that of its package, ``update`` one that the lists have.
    """

    name: str
    arguments: list[str] = []
    user: str = "root"
    parent: str | None = None
    cgroup: str = "/system.slice"
    kernel: bool = False
    pattern: Pattern = "idle"
    demand_cores: float = 0.0
    threads: int = 1
    busy_threads: int = 1
    peers: int = 0
    nice: int = 0
    system_share: float = 0.15
    private_mib: float = 4.0
    shared_mib: float = 6.0
    leak_mib_per_s: float = 0.0
    memory_limit_mib: float | None = None
    touched_share: float = 0.3
    children_per_s: float = 0.0
    child_cpu_s: float = 0.0
    read_mib_per_s: float = 0.0
    write_mib_per_s: float = 0.0
    request_kib: float = 128.0
    disk: int = 0
    sent_mib_per_s: float = 0.0
    received_mib_per_s: float = 0.0
    listens: list[int] = []
    talks_to: list[str] = []
    descriptors: int = 12
    descriptors_per_s: float = 0.0
    graphics_share: float = 0.0
    waits_on: str | None = None
    waits_in: str = "do_epoll_wait"
    state: Literal["D", "T"] | None = None
    defunct: int = 0
    restarts_every_s: float = 0.0
    quota_cores: float | None = None
    driver: Driver | None = None
    age_s: float | None = None
    autostarts: bool = False
    deleted: bool = False
    directory: str = "/opt/skerrow/bin"
    version: str = "3.1-2"
    update: str | None = None
    shown_as: str | None = None


class ModuleSpec(Spec, frozen=True):
    """One memory slot; 0 MiB is an empty one. Speeds in millions of transfers a second."""

    slot: str
    mib: int = 0
    rated_mtps: int = 3200
    configured_mtps: int = 3200


class SensorSpec(Spec, frozen=True):
    """One hwmon channel in SI units.

    ``follows`` is what it shows: the temperature of the package plus ``offset``, the fan, the power
    of the package, or nothing: then it stands at ``offset``. ``device`` is that of a disk.
    """

    chip: str
    channel: str
    label: str | None = None
    follows: Literal["package", "fan", "power", "nothing"] = "nothing"
    offset: float = 0.0
    critical: float | None = None
    high: float | None = None
    device: str | None = None


class HeatSpec(Spec, frozen=True):
    """How a package gets rid of its heat, in W, K/W and s.

    ``resistance`` is that of a clean cooler at full fan; ``dust`` raises it; a fan that does not
    turn leaves natural draught.
    """

    idle_w: float = 6.0
    full_w: float = 45.0
    ambient_celsius: float = 23.0
    resistance: float = 0.9
    settles_s: float = 15.0
    dust: float = 0.0
    fan_works: bool = True
    fan_least_rpm: float = 900.0
    fan_most_rpm: float = 3200.0
    critical_celsius: float = 100.0


class DiskSpec(Spec, frozen=True):
    """One disk. ``slowness`` multiplies its service time: a failing disk repeats its work."""

    name: str
    model: str
    gib: int
    spins: bool = False
    slowness: float = 1.0
    device: str | None = None


class HealthSpec(Spec, frozen=True):
    """What a drive says of its own health; ``attributes`` are raw figures of ATA by number."""

    disk: str
    warning: int = 0
    spare_percent: int = 100
    used_percent: int = 3
    media_errors: int = 0
    fails: bool = False
    attributes: dict[str, int] = {}
    asleep: bool = False


class LinkSpec(Spec, frozen=True):
    """One network link; ``errors_per_s`` come with retransmissions."""

    name: str
    mbit_per_s: int | None = None
    wireless: bool = False
    is_default: bool = False
    up: bool = True
    errors_per_s: float = 0.0


class FileSystemSpec(Spec, frozen=True):
    """One mounted file system."""

    point: str
    kind: str
    source: str
    gib: float
    used_share: float
    inodes_share: float = 0.2


class BatterySpec(Spec, frozen=True):
    """A battery in watts and watt-hours; ``rest_w`` is what the computer takes beside packages.

    A charger gives so much.
    """

    design_wh: float
    full_wh: float
    charged_share: float
    cycles: int
    rest_w: float = 7.0
    charger_w: float = 0.0


class LoginSpec(Spec, frozen=True):
    """Somebody who is logged in since so many seconds."""

    user: str
    line: str
    since_s: float
    origin: str = ""
    program: str = "init"


class Hardware(Spec, frozen=True):
    """What the computer consists of besides processors."""

    maker: str = "Skerrow Workshop"
    system: str = "Guillemot"
    heat: HeatSpec = HeatSpec()
    modules: list[ModuleSpec] = []
    sensors: list[SensorSpec] = []
    disks: list[DiskSpec] = []
    links: list[LinkSpec] = []
    file_systems: list[FileSystemSpec] = []
    battery: BatterySpec | None = None
    graphics: bool = False
    health: list[HealthSpec] = []


class Truth(Spec, frozen=True):
    """What is really wrong.

    ``limiting`` None: nothing limits. ``must`` and ``must_not`` are kinds of finding, ``cure`` is
    the action of a step that helps, ``strength`` how far beyond its limit the computer is driven.
    """

    limiting: str | None = None
    culprit: str | None = None
    role: str = "cause"
    must: list[str] = []
    must_not: list[str] = []
    cure: str | None = None
    strength: float = 1.0


class StartSpec(Spec, frozen=True):
    """An earlier start of the computer, and whether the run before it was shut down."""

    ago_s: float
    after_order: bool = True


class BootSpec(Spec, frozen=True):
    """Seconds of each phase of the start; ``units`` that took long: began, ready, waited for."""

    firmware_s: float = 6.0
    loader_s: float = 2.0
    kernel_s: float = 3.0
    initrd_s: float = 4.0
    services_s: float = 11.0
    units: dict[str, tuple[float, float, bool]] = {}


class LogSpec(Spec, frozen=True):
    """A line of the kernel's log, written ``at_s`` after the capture begins (negative: before).

    It comes so many ``times``, each ``every_s`` after the one before.
    """

    text: str
    at_s: float
    times: int = 1
    every_s: float = 60.0
    priority: int = 3


class Scenario(Spec, frozen=True):
    """One patient. ``hidden`` are patterns of files that this computer does not publish.

    ``kernels`` are installed besides the running one; an update asked for a restart
    ``restart_asked_s`` ago, and the lists of packages were fetched ``lists_fetched_s`` ago.
    ``panics`` are when the kernel crashed, in seconds ago, with its reason.
    """

    story: str
    complaint: str
    machine: MachineSpec
    truth: Truth
    users: list[UserSpec]
    programs: list[ProgramSpec]
    hardware: Hardware = Hardware()
    logins: list[LoginSpec] = []
    hidden: list[str] = []
    kernel_log: list[LogSpec] = []
    starts: list[StartSpec] = []
    boot: BootSpec = BootSpec()
    kernels: list[str] = []
    restart_asked_s: float | None = None
    lists_fetched_s: float = 800_000.0
    panics: dict[str, float] = {}


def scenario_names() -> list[str]:
    """Return the names of all patients."""
    folder = files("dunmist.simulation") / "scenarios"
    return sorted(file.name.removesuffix(".toml") for file in folder.iterdir())


def load_scenario(name: str) -> Scenario:
    """Return a patient by name; raises UnknownName with the nearest right one."""
    names = scenario_names()
    if name not in names:
        near = get_close_matches(name, names, n=1)
        hint = f"did you mean '{near[0]}'?" if near else f"choose from {', '.join(names)}"
        raise UnknownName(f"there is no scenario '{name}'; {hint}")
    return build_scenario(_table("scenarios", name))


def build_scenario(table: dict[str, Any]) -> Scenario:
    """Return the patient of a scenario table, merged with the computer that it names.

    Tables go key by key over the computer's. ``programs`` are added to its programs, ``changes``
    go over single ones by name, ``without`` takes some away.
    """
    table = dict(table)
    base = _table("computers", table.pop("computer"))
    programs = [*base.pop("programs"), *table.pop("programs", [])]
    changes, without = table.pop("changes", {}), table.pop("without", [])
    merged = [
        program | changes.get(program["name"], {})
        for program in programs
        if program["name"] not in without
    ]
    return msgspec.convert(_over(base, table) | {"programs": merged}, Scenario)


def _over(base: dict[str, Any], table: dict[str, Any]) -> dict[str, Any]:
    merged = dict(base)
    for key, value in table.items():
        both = isinstance(value, dict) and isinstance(merged.get(key), dict)
        merged[key] = _over(merged[key], value) if both else value
    return merged


@cache
def _text(folder: str, name: str) -> str:
    place = files("dunmist.simulation") / folder / f"{name}.toml"
    return place.read_text(encoding="utf-8")


def _table(folder: str, name: str) -> dict[str, Any]:
    return tomllib.loads(_text(folder, name))
