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

DEFAULT_SCENARIO = "waking-index"
Pattern = Literal["steady", "bursty", "start-up", "idle"]
Driver = Literal["heat", "paging", "disk", "interrupts"]


class Spec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Base of all parts of a scenario: an unknown word is an error."""


class MachineSpec(Spec, frozen=True):
    """The computer."""

    host: str
    model: str
    cores: int  # of each package
    min_mhz: int
    max_mhz: int
    memory_mib: int
    kernel_mib: int  # memory of the kernel itself
    started: str  # ISO 8601: when the capture begins
    distribution: str
    kernel: str
    packages: int = 1  # sockets
    threads_per_core: int = 1
    cache_mib: int = 1500  # file cache wanted
    files_in_memory_mib: int = 0  # files on a tmpfs that no program maps
    huge_pages_mib: int = 0  # reserved for huge pages, and unused
    swap_mib: int = 2048
    swap_used_mib: int = 0  # from earlier, and not wanted back
    uptime_s: float = 93_600.0
    clock_limit_mhz: int | None = None  # pins the clock below its maximum
    stolen_share: float = 0.0  # of each CPU, by a hypervisor
    interrupts_per_s: float = 0.0  # of one device
    interrupt_source: str = "xhci_hcd"
    oom_kills_per_s: float = 0.0
    small_cores: int = 0  # the last ones, which reach small_max_mhz only
    small_max_mhz: int = 2000
    compressed_swap: bool = False  # swap is memory in which pages take less room


class UserSpec(Spec, frozen=True):
    """One user of the computer."""

    name: str
    uid: int


class ProgramSpec(Spec, frozen=True):
    """A program and how its processes behave; rates are what each process wants."""

    name: str
    arguments: list[str] = []  # after the program
    user: str = "root"
    parent: str | None = None
    cgroup: str = "/system.slice"
    kernel: bool = False
    pattern: Pattern = "idle"  # of its demand over time
    demand_cores: float = 0.0  # of each thread
    starts_s: float = 0.0  # in the capture: before, it wants nothing
    threads: int = 1
    busy_threads: int = 1  # the others sleep
    peers: int = 0  # further processes, children of the first, which then only hands out work
    nice: int = 0
    system_share: float = 0.15  # of its CPU time in the kernel
    private_mib: float = 4.0
    shared_mib: float = 6.0
    leak_mib_per_s: float = 0.0
    memory_limit_mib: float | None = None  # of its control group; more lies in swap
    touched_share: float = 0.3  # of its memory that is used all the time
    children_per_s: float = 0.0  # short-lived ones
    child_cpu_s: float = 0.0  # of each
    read_mib_per_s: float = 0.0
    write_mib_per_s: float = 0.0
    request_kib: float = 128.0
    disk: int = 0  # index in the hardware
    sent_mib_per_s: float = 0.0
    received_mib_per_s: float = 0.0
    listens: list[int] = []  # ports
    talks_to: list[str] = []  # address:port at the other end
    descriptors: int = 12
    descriptors_per_s: float = 0.0
    graphics_share: float = 0.0
    waits_on: str | None = None  # program that holds the lock it needs
    waits_in: str = "do_epoll_wait"  # kernel function
    call: str = ""  # system call that it waits in, on the first file that it writes or reads
    state: Literal["D", "T"] | None = None  # never changes where it is given
    defunct: int = 0  # children that nobody waited for
    restarts_every_s: float = 0.0  # dies and is started again
    quota_cores: float | None = None  # of its control group
    reads_most_mib_per_s: float | None = None  # I/O limit of its control group on its disk
    cpus_most: int = 0  # the first ones, which it may run on; 0 for all
    frozen: bool = False  # its control group
    tasks_most: int = 0  # limit of its control group; 0 for none
    tasks_refused: int = 0  # by that limit
    driver: Driver | None = None  # the demand follows this instead
    age_s: float | None = None  # before the capture; None since the computer started
    autostarts: bool = False
    deleted: bool = False  # its file is gone
    directory: str = "/opt/skerrow/bin"
    version: str = "3.1-2"  # of its package
    update: str | None = None  # version that the package lists have
    shown_as: str | None = None  # name in its command line, where it is another one
    code: dict[str, float] = {}  # 'file:function' to its part of the CPU time
    thread_names: list[str] = []  # of the first threads
    reads: dict[str, float] = {}  # open file to its part of what is read
    writes: dict[str, float] = {}  # open file to its part of what is written


class ModuleSpec(Spec, frozen=True):
    """One memory slot; 0 MiB is an empty one. Speeds in millions of transfers a second."""

    slot: str
    mib: int = 0
    rated_mtps: int = 3200
    configured_mtps: int = 3200


class SensorSpec(Spec, frozen=True):
    """One hwmon channel in SI units."""

    chip: str
    channel: str
    label: str | None = None
    # with nothing it stands at the offset
    follows: Literal["package", "fan", "power", "nothing"] = "nothing"
    offset: float = 0.0  # added to what it follows
    critical: float | None = None
    high: float | None = None
    device: str | None = None  # of a disk


class HeatSpec(Spec, frozen=True):
    """Cooling of a package."""

    idle_w: float = 6.0  # without load
    full_w: float = 45.0
    ambient_celsius: float = 23.0
    resistance: float = 0.9  # K/W of a clean cooler at full fan
    settles_s: float = 15.0  # time constant
    dust: float = 0.0  # 0 clean, 1 doubles the resistance
    fan_works: bool = True  # a stopped fan leaves natural draught
    fan_least_rpm: float = 900.0
    fan_most_rpm: float = 3200.0
    critical_celsius: float = 100.0


class DiskSpec(Spec, frozen=True):
    """One disk."""

    name: str
    model: str
    gib: int
    spins: bool = False
    slowness: float = 1.0  # factor of its service time: a failing disk repeats its work
    device: str | None = None  # path that its sensors share


class HealthSpec(Spec, frozen=True):
    """Health that a drive reports of itself."""

    disk: str
    warning: int = 0  # critical warning byte of NVMe
    spare_percent: int = 100
    used_percent: int = 3
    media_errors: int = 0
    fails: bool = False  # self-assessment of ATA
    attributes: dict[str, int] = {}  # raw figures of ATA by number
    asleep: bool = False  # spun down, so that it is not asked


class LinkSpec(Spec, frozen=True):
    """One network link."""

    name: str
    mbit_per_s: int | None = None
    wireless: bool = False
    is_default: bool = False
    up: bool = True
    errors_per_s: float = 0.0  # come with retransmissions
    signal_dbm: int | None = None  # of a wireless link
    gateway_silent: bool = False  # the gateway of the default route does not answer


class FileSystemSpec(Spec, frozen=True):
    """One mounted file system."""

    point: str
    kind: str
    source: str
    gib: float
    used_share: float
    inodes_share: float = 0.2
    grows_mib_per_s: float = 0.0


class BatterySpec(Spec, frozen=True):
    """A battery."""

    design_wh: float
    full_wh: float
    charged_share: float  # when the capture begins
    cycles: int
    rest_w: float = 7.0  # power of the computer without its packages
    charger_w: float = 0.0  # given by mains


class LoginSpec(Spec, frozen=True):
    """A user who is logged in."""

    user: str
    line: str  # terminal, as pts/0
    since_s: float  # before the capture
    origin: str = ""  # host, empty for this seat
    program: str = "init"


class Hardware(Spec, frozen=True):
    """Parts of the computer besides CPUs."""

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
    """The real cause of the patient's trouble."""

    limiting: str | None = None  # None if nothing limits
    culprit: str | None = None
    role: str = "cause"
    must: list[str] = []  # kinds of finding that have to be reported
    must_not: list[str] = []
    cure: str | None = None  # action of a step that helps
    doing: str | None = None  # kind of work that the culprit's code is for
    changed: str | None = None  # recent changes that concern the culprit
    strength: float = 1.0  # how far beyond its limit the computer is driven


class StartSpec(Spec, frozen=True):
    """An earlier start of the computer, and whether the run before it was shut down."""

    ago_s: float
    after_order: bool = True


class BootSpec(Spec, frozen=True):
    """Seconds of each phase of the start."""

    firmware_s: float = 6.0
    loader_s: float = 2.0
    kernel_s: float = 3.0
    initrd_s: float = 4.0
    services_s: float = 11.0
    units: dict[str, tuple[float, float, bool]] = {}  # slow ones: began, ready, waited for


class LogSpec(Spec, frozen=True):
    """A line of the kernel's log, perhaps repeated."""

    text: str
    at_s: float  # after the capture begins; negative before
    times: int = 1
    every_s: float = 60.0  # between two of them
    priority: int = 3  # syslog(3): 3 is an error


class ChangeSpec(Spec, frozen=True):
    """One thing that changed before the capture: a package, or a file."""

    ago_s: float
    act: Literal["installed", "upgraded", "removed", "file"]
    what: str
    old: str | None = None
    new: str | None = None
    by: str | None = None  # user who asked the package manager
    text: str = ""  # of a file


class Scenario(Spec, frozen=True):
    """One patient."""

    story: str  # for the reader of the file
    complaint: str  # note of the capture
    machine: MachineSpec
    truth: Truth
    users: list[UserSpec]
    programs: list[ProgramSpec]
    hardware: Hardware = Hardware()
    logins: list[LoginSpec] = []
    hidden: list[str] = []  # patterns of files that this computer does not publish
    kernel_log: list[LogSpec] = []
    starts: list[StartSpec] = []
    boot: BootSpec = BootSpec()
    kernels: list[str] = []  # installed in addition to the running one
    lately: list[ChangeSpec] = []
    restart_asked_s: float | None = None  # before the capture, by an update
    lists_fetched_s: float = 800_000.0  # before the capture
    panics: dict[str, float] = {}  # reason to seconds before the capture


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
        raise UnknownName(f"unknown scenario '{name}'; {hint}")
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
    file = files("dunmist.simulation") / folder / f"{name}.toml"
    return file.read_text(encoding="utf-8")


def _table(folder: str, name: str) -> dict[str, Any]:
    return tomllib.loads(_text(folder, name))
