"""Draws hard patients from a seed: what makes a careful technician doubt, and err now and then.

Strengths near the limit, rivals nearly as strong, a second fault, programs that only look guilty,
processors from 2 to 64 and unequal ones, virtual computers, a clock that is held down, memory
cards, drives that are too hot, compressed swap, old kernels and sampling without rights that
publish less, programs that start others all the time, servers with their clients, captures of a few
seconds, and some that got few of their ticks. Some of them cannot be told by anybody; how sure a
verdict is of itself is held against how often it is right here. As in ``generator``, the truth
comes from how the patient was made.
"""

from typing import NamedTuple

import msgspec

from dunmist.simulation import VirtualClock
from dunmist.simulation.scenario import Scenario, Truth, build_scenario
from dunmist.simulation.sockets import OWN_ADDRESS

from .generator import CORES, FREE_MIB, ILLNESSES, NEIGHBOURS_MOST, Draft
from .strength import strengths

STRENGTHS = (0.8, 1.6)
MEMORY_STRENGTHS = (0.2, 3.0)
# of the limiting illness another program has so much, so that it is nearly as much to blame
RIVALS = (0.3, 0.97)
# equal partners: so many, each with so much of what the first one has
PARTNERS, PARTNER_PARTS, PARTNERS_SHARE = (2, 3), (0.75, 1.0), 0.2
# one program starts others that live so long, again and again, and so many at least
STARTER_SHARE, LIVES_S, BUILDERS_LEAST = 0.15, (0.5, 0.9), 2
# a server and a client here that works beside it, with so much of what the server wants
SERVED_SHARE, CLIENT_PARTS, PORT = 0.15, (0.1, 0.8), 8080
# where a terminal keeps what is started in it
SESSION_SCOPE = "/user.slice/user-1004.slice/session-2.scope"
# how many captures get under half of their ticks, if they are long enough for that
HALVED_SHARE, HALVED_LEAST_S = 0.15, 12.0
# so late comes what was waited for; so long takes a tick that follows at once
LATE_S, READING_S = 4.5, 0.2
PROCESSORS = (2, 4, 6, 8, 12, 16, 32, 64)
DURATIONS_S = (4.0, 6.0, 8.0, 12.0, 20.0, 30.0)
# what is not published: old kernels, hidden processes, virtual computers
MISSING: tuple[tuple[str, ...], ...] = (
    (),
    (),
    # before Linux 4.20
    ("proc/pressure/*",),
    ("proc/pressure/*", "proc/*/schedstat"),
    # without rights
    ("proc/*/io", "proc/*/fd/*", "proc/*/exe"),
    # a virtual computer
    ("sys/class/hwmon/*", "sys/devices/system/cpu/*/cpufreq/*"),
    ("proc/*/cgroup", "proc/*/io", "proc/pressure/*"),
)
LIMITED = (
    "full processors",
    "one full processor",
    "storm of errands",
    "too little memory",
    "busy disk",
    "busy link",
)
RESOURCE_OF = {
    "full processors": "cpu",
    "one full processor": "core",
    "storm of errands": "cpu",
    "too little memory": "memory",
    "busy disk": "disk",
    "busy link": "link",
}
SERVERS = ("full processors", "one full processor")
HOT_DRIVE = {
    "disks": [
        {
            "name": "nvme0n1",
            "model": "Skerrow Strip",
            "gib": 931,
            "slowness": 3.0,
            "device": "nvme0",
        }
    ],
    "sensors": [
        {
            "chip": "nvme",
            "channel": "temp1",
            "label": "Composite",
            "offset": 84,
            "high": 82,
            "critical": 90,
            "device": "nvme0",
        }
    ],
}
# one thread can ask for no more than one processor
CORE_FULL = 0.995

# what a program has of the resource that limits, and how it goes about it
WANTED = (
    "demand_cores",
    "read_mib_per_s",
    "sent_mib_per_s",
    "received_mib_per_s",
    "children_per_s",
    "private_mib",
)
ALIKE = ("peers", "request_kib", "talks_to", "child_cpu_s", "touched_share")


class HardPatient(NamedTuple):
    """A scenario, and how it is to be sampled."""

    scenario: Scenario
    illness: str
    duration_s: float
    every_s: float
    clock: type[VirtualClock]


class LateClock(VirtualClock):
    """Comes late to what is waited for, as on a computer that is held up.

    Over half of the ticks are missed.
    """

    def sleep_until(self, monotonic_s: float) -> bool:
        """Move the model on further than asked for."""
        now_s = self.monotonic_s()
        is_to_come = monotonic_s > now_s
        return super().sleep_until(monotonic_s + LATE_S if is_to_come else now_s + READING_S)


class _HardDraft(Draft):
    """A draft on a computer with any number of CPUs and a strength near the limit."""

    def __init__(self, seed: int) -> None:
        super().__init__(seed)
        self.strength = round(self.chance.uniform(*STRENGTHS), 3)
        self.table["truth"]["strength"] = self.strength
        self.processors = self.chance.choice((CORES[self.computer], *PROCESSORS))
        self.table["machine"] = {"cores": self.processors, "threads_per_core": 1}

    @property
    def cores(self) -> int:
        """Logical CPUs of this very computer."""
        return self.processors


def _rival(draft: _HardDraft, illness: str) -> None:
    """Add a program that wants nearly as much; together they want what one alone did."""
    _share(draft, illness, [draft.chance.uniform(*RIVALS)])


def _partners(draft: _HardDraft, illness: str) -> None:
    """Add programs that want as much; none of them alone is to blame."""
    count = draft.chance.choice(PARTNERS)
    _share(draft, illness, [draft.chance.uniform(*PARTNER_PARTS) for _ in range(count)])


def _share(draft: _HardDraft, illness: str, parts: list[float]) -> None:
    """Add programs that want such parts of what the first one wants; together they want that."""
    first = draft.table["programs"][0]
    alike = {key: first[key] for key in ALIKE if key in first}
    wants = {key: first[key] for key in WANTED if key in first}
    if illness == "one full processor":
        # each has a processor to itself
        for part in parts:
            draft.program(**alike, demand_cores=min(0.9, part * first["demand_cores"]))
        return
    whole = 1.0 + sum(parts)
    first |= {key: value / whole for key, value in wants.items()}
    for part in parts:
        draft.program(**alike, **{key: value * part / whole for key, value in wants.items()})


def _generations(draft: _HardDraft) -> None:
    """Have the first program start others, each of which works for less than a second."""
    first = draft.table["programs"][0]
    wanted = first["demand_cores"] * max(1, first.get("peers", 0))
    builders = min(draft.cores * 2, max(BUILDERS_LEAST, round(wanted)))
    first |= {"demand_cores": 0.02, "peers": 0, "cgroup": SESSION_SCOPE}
    for _ in range(builders):
        draft.program(
            demand_cores=min(1.0, wanted / builders),
            parent=first["name"],
            cgroup=SESSION_SCOPE,
            restarts_every_s=draft.chance.uniform(*LIVES_S),
        )


def _served(draft: _HardDraft, illness: str) -> None:
    """Have the first program answer another one of this computer."""
    _share(draft, illness, [draft.chance.uniform(*CLIENT_PARTS)])
    server, client = draft.table["programs"][0], draft.table["programs"][-1]
    server |= {"listens": [PORT], "sent_mib_per_s": 0.05}
    client |= {"talks_to": [f"{OWN_ADDRESS}:{PORT}"], "received_mib_per_s": 0.05}


def _bystander(draft: _HardDraft, illness: str) -> None:
    """Add a program that looks guilty of something and is not."""
    looks = draft.chance.randrange(7)
    if looks == 2 and illness == "too little memory":
        # it would be guilty
        looks = 6
    cores = draft.cores
    if looks == 0:
        draft.program(demand_cores=1.0, peers=cores, nice=19, private_mib=40.0)
    elif looks == 1:
        draft.program(pattern="start-up", demand_cores=1.0, threads=4, busy_threads=4)
    elif looks == 2:
        draft.program(pattern="idle", private_mib=FREE_MIB[draft.computer] * 0.25)
    elif looks == 3:
        draft.program(pattern="idle", threads=400, private_mib=60.0)
    elif looks == 4:
        draft.program(pattern="bursty", demand_cores=0.7, private_mib=50.0)
    elif looks == 5:
        draft.program(demand_cores=0.05, write_mib_per_s=draft.chance.uniform(0.2, 3.0))
    else:
        draft.table["machine"] |= {"swap_used_mib": 900}


def _odd_computer(draft: _HardDraft, illness: str) -> None:
    """Make the computer one of those that the usual patients do not have."""
    machine, odd = draft.table["machine"], draft.chance.randrange(8)
    if odd == 0:
        # a virtual computer that is given less
        machine["stolen_share"] = draft.chance.uniform(0.02, 0.2)
    elif odd == 1:
        # a thin laptop: all CPUs at work have half of the greatest clock
        machine["clock_limit_mhz"] = 1500
    elif odd == 2 and illness != "busy disk":
        # a memory card, which serves less than the strength of a busy disk was drawn for
        draft.table.setdefault("hardware", {})["disks"] = [
            {"name": "mmcblk0", "model": "Skerrow Card", "gib": 64, "slowness": 4.0}
        ]
    elif odd == 3:
        machine |= {"threads_per_core": 2, "cores": draft.processors // 2}
    elif odd == 4:
        # half of the CPUs are small ones that save power
        machine |= {"small_cores": draft.processors // 2}
    elif odd == 5:
        machine |= {"compressed_swap": True}
    elif odd == 6 and illness == "busy disk":
        # the drive is too hot and slows down, and somebody's requests heat it
        draft.table.setdefault("hardware", {}).update(HOT_DRIVE)


def hard_patient(seed: int) -> HardPatient:
    """Return the hard patient of a seed."""
    draft = _HardDraft(seed)
    illness = LIMITED[seed % len(LIMITED)]
    chance = draft.chance
    if illness == "too little memory":
        # drawn from a wide range, as the illness makes a small one of it
        draft.strength = chance.uniform(*MEMORY_STRENGTHS)
    ILLNESSES[illness](draft)
    if illness == "full processors" and chance.random() < STARTER_SHARE:
        _generations(draft)
    elif illness in SERVERS and chance.random() < SERVED_SHARE:
        _served(draft, illness)
    elif illness != "one full processor" and chance.random() < PARTNERS_SHARE:
        _partners(draft, illness)
    elif chance.random() < 0.6:
        _rival(draft, illness)
    for _ in range(chance.randrange(4)):
        _bystander(draft, illness)
    if chance.random() < 0.5:
        _odd_computer(draft, illness)
    for _ in range(chance.randrange(NEIGHBOURS_MOST)):
        draft.program(
            pattern=chance.choice(("idle", "idle", "bursty")),
            demand_cores=round(chance.uniform(0.0, 0.05), 3),
            # together they would be a good part of a small memory
            private_mib=1.0 if illness == "too little memory" else chance.uniform(3, 12),
        )
    draft.table["hidden"] = list(chance.choice(MISSING))
    duration_s = chance.choice(DURATIONS_S)
    scenario = build_scenario(draft.table)
    truth = _truth(scenario, illness, duration_s)
    is_halved = duration_s >= HALVED_LEAST_S and chance.random() < HALVED_SHARE
    clock = LateClock if is_halved else VirtualClock
    patient = msgspec.structs.replace(scenario, truth=truth)
    return HardPatient(patient, illness, duration_s, 1.0, clock)


def _truth(scenario: Scenario, illness: str, duration_s: float) -> Truth:
    """Return what is wrong, all programs and what the computer can give reckoned together."""
    asked = strengths(scenario, duration_s)
    own = RESOURCE_OF[illness]
    # who has to share a full computer is not held back by the one processor
    order = ("cpu", "core") if own == "core" else (own, "memory", "disk", "link", "cpu", "core")
    for resource in order:
        least = CORE_FULL if resource == "core" else 1.0
        if asked[resource].strength >= least:
            return Truth(resource, asked[resource].by, strength=round(asked[resource].strength, 3))
    return Truth(strength=round(asked[own].strength, 3))
