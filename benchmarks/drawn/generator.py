"""Draws random patients from a seed: machine, neighbours, illness, strength, missing sources.

The truth comes from how the patient was made, not from how it will be judged. ``strength`` is what
is asked of the limiting resource divided by what it can give: below 1 the patient is well, a little
above it is weakly ill.
"""

import random
from collections.abc import Callable
from typing import Any

from dunmist.simulation.scenario import HeatSpec, Scenario, build_scenario

COMPUTERS = ("laptop", "desk", "old-desk", "workstation")
CORES = {"laptop": 8, "desk": 4, "old-desk": 2, "workstation": 16}
FREE_MIB = {"laptop": 15210, "desk": 7230, "old-desk": 3440, "workstation": 62810}
USUAL_MIB = 1850  # what the usual programs of every computer hold
SPINS = {"old-desk"}
BIRDS = (
    "tern",
    "auk",
    "skua",
    "fulmar",
    "petrel",
    "gannet",
    "plover",
    "dunlin",
    "whimbrel",
    "eider",
    "turnstone",
    "kittiwake",
)
THINGS = ("log", "map", "sorter", "view", "relay", "index", "book", "count", "plates", "chart")
NEIGHBOURS_MOST = 40
WAITS_FROM = 0.5
HEATING_LOAD, USUAL_LOAD = 0.75, 0.05  # shares of all CPUs
SESSION = "/user.slice/user-1004.slice/user@1004.service/app.slice/app-{}-{}.scope"
# files that some computers do not publish, or not to everybody: how often, which, and the illnesses
# whose truth could not be seen without them
HIDDEN: tuple[tuple[float, tuple[str, ...], tuple[str, ...]], ...] = (
    (0.15, ("proc/pressure/*",), ()),
    (0.10, ("proc/*/schedstat",), ()),
    (0.10, ("sys/devices/system/cpu/*/cpufreq/scaling_cur_freq",), ("dusty cooler",)),
    (0.10, ("proc/*/cgroup",), ()),
    (0.15, ("sys/class/hwmon/*",), ("dusty cooler",)),
    (0.15, ("proc/*/io", "proc/*/fd/*", "proc/*/exe"), ("busy disk", "busy link")),
)


class Draft:
    """A patient that is being drawn: a scenario table and the means to add to it."""

    def __init__(self, seed: int) -> None:
        self.chance = random.Random(seed)
        self.computer = self.chance.choice(COMPUTERS)
        self.names = [f"{bird}-{thing}" for bird in BIRDS for thing in THINGS]
        self.chance.shuffle(self.names)
        # the builders of a large computer are more than that
        self.names = [*(f"{name}-2" for name in self.names), *self.names]
        self.strength = round(self.chance.uniform(0.5, 2.5), 2)
        self.table: dict[str, Any] = {
            "computer": self.computer,
            "story": f"A patient drawn at random from seed {seed}.",
            "complaint": "drawn at random",
            "programs": [],
            "truth": {"strength": self.strength},
        }

    @property
    def cores(self) -> int:
        """Logical CPUs of the computer."""
        return CORES[self.computer]

    def program(self, **how: object) -> str:
        """Add a program of a new name and return the name."""
        name = self.names.pop()
        unit = SESSION.format(name.replace("-", "\\x2d"), 3000 + len(self.names))
        self.table["programs"].append(
            {
                "name": name,
                "user": "isbister",
                "parent": "cliff-desktop",
                "cgroup": unit,
                "pattern": "steady",
                **how,
            }
        )
        return name

    def truth(self, limiting: str, culprit: str | None) -> None:
        """Say what limits, if the strength is enough for it."""
        if self.strength > 1.0:
            self.table["truth"] |= {"limiting": limiting}
            if culprit:
                self.table["truth"] |= {"culprit": culprit}


def full_processors(draft: Draft) -> None:
    """Several processes want more than all CPUs."""
    peers = draft.cores + draft.chance.randint(1, 6)
    each = min(1.0, draft.strength * draft.cores / peers)
    if each == 1.0:
        peers = max(1, round(draft.strength * draft.cores))
    draft.truth("cpu", draft.program(demand_cores=each, peers=peers, private_mib=60.0))


def one_full_processor(draft: Draft) -> None:
    """One thread wants more than one processor can give."""
    demand = min(1.0, draft.strength)
    draft.truth("core", draft.program(demand_cores=demand, private_mib=80.0))


def storm_of_errands(draft: Draft) -> None:
    """Thousands of short-lived programs want more than all CPUs."""
    each_s = draft.chance.uniform(0.008, 0.05)
    rate = draft.strength * draft.cores / each_s
    name = draft.program(demand_cores=0.05, children_per_s=rate, child_cpu_s=each_s)
    draft.truth("cpu", name)


def too_little_memory(draft: Draft) -> None:
    """What is touched all the time exceeds the memory; the excess is small, its effect is not."""
    draft.strength = round(0.75 + draft.strength * 0.2, 3)  # 0.85 to 1.25
    draft.table["truth"]["strength"] = draft.strength
    room = FREE_MIB[draft.computer]
    held = room * draft.strength - USUAL_MIB * 0.3
    draft.table["machine"] = {"swap_mib": round(room)}
    draft.truth("memory", draft.program(demand_cores=0.3, private_mib=held, touched_share=1.0))


def busy_disk(draft: Draft) -> None:
    """More requests than the disk can serve.

    Between half of that and all of it who asks waits for most of the time, although the disk keeps
    up: that is neither well nor ill, and not drawn.
    """
    if WAITS_FROM < draft.strength < 1.0:
        draft.strength = round(draft.strength * WAITS_FROM, 2)
        draft.table["truth"]["strength"] = draft.strength
    spins = draft.computer in SPINS
    small_s = 0.0085 if spins else 0.0001
    rate = draft.strength / small_s
    kib = 4.0
    name = draft.program(
        demand_cores=0.1, read_mib_per_s=rate * kib / 1024, request_kib=kib, private_mib=60.0
    )
    draft.truth("disk", name)


def busy_link(draft: Draft) -> None:
    """More bytes than the link can carry."""
    mbit = 300 if draft.computer == "laptop" else 1000
    wanted = draft.strength * mbit * 0.95 / 8 * 1e6 / (1 << 20)
    direction = draft.chance.choice(("sent_mib_per_s", "received_mib_per_s"))
    name = draft.program(
        demand_cores=0.1, private_mib=50.0, talks_to=["172.16.0.9:445"], **{direction: wanted}
    )
    draft.truth("link", name)


def dusty_cooler(draft: Draft) -> None:
    """Steady work that the cooler cannot carry away."""
    draft.computer = draft.table["computer"] = draft.chance.choice(("laptop", "desk"))
    heat = base_heat(draft.computer)
    watts = heat.idle_w + (heat.full_w - heat.idle_w) * (HEATING_LOAD + USUAL_LOAD)
    # what the package would settle at, against what it bears: both above the air around it
    bearable = heat.critical_celsius - heat.ambient_celsius
    dust = draft.strength * bearable / (watts * heat.resistance) - 1.0
    draft.table["hardware"] = {"heat": {"dust": round(dust, 3)}}
    peers = draft.cores - 1
    each = HEATING_LOAD * draft.cores / peers
    name = draft.program(demand_cores=min(1.0, each), peers=peers, private_mib=60.0)
    draft.truth("heat", name)


def base_heat(computer: str) -> HeatSpec:
    """Return how a computer gets rid of its heat when it is clean."""
    table = {"computer": computer, "story": "", "complaint": "", "truth": {}}
    return build_scenario(table).hardware.heat


def well(draft: Draft) -> None:
    """Nothing is wrong, and something looks as if."""
    draft.strength = draft.table["truth"]["strength"] = 0.4
    looks = draft.chance.randrange(5)
    if looks == 0:
        draft.program(demand_cores=1.0, peers=draft.cores, nice=19, private_mib=40.0)
    elif looks == 1:
        draft.program(pattern="start-up", demand_cores=1.0, threads=4, busy_threads=4)
    elif looks == 2:
        draft.table["machine"] = {"cache_mib": FREE_MIB[draft.computer]}
    elif looks == 3:
        draft.table["machine"] = {"swap_used_mib": 900}
    else:
        draft.program(demand_cores=0.5, peers=max(1, draft.cores // 2), private_mib=40.0)


ILLNESSES: dict[str, Callable[[Draft], None]] = {
    "full processors": full_processors,
    "one full processor": one_full_processor,
    "storm of errands": storm_of_errands,
    "too little memory": too_little_memory,
    "busy disk": busy_disk,
    "busy link": busy_link,
    "dusty cooler": dusty_cooler,
    "well": well,
}


def illness_of(seed: int) -> str:
    """Return which illness the patient of a seed is drawn with; each comes equally often."""
    return tuple(ILLNESSES)[seed % len(ILLNESSES)]


def random_scenario(seed: int) -> Scenario:
    """Return the patient of a seed."""
    draft = Draft(seed)
    ILLNESSES[illness_of(seed)](draft)
    for _ in range(draft.chance.randrange(NEIGHBOURS_MOST)):
        draft.program(
            pattern=draft.chance.choice(("idle", "idle", "bursty")),
            demand_cores=round(draft.chance.uniform(0.0, 0.03), 3),
            private_mib=round(draft.chance.uniform(3, 12), 1),
            shared_mib=round(draft.chance.uniform(2, 30), 1),
        )
    draft.table["hidden"] = [
        pattern
        for share, patterns, needed_for in HIDDEN
        if draft.chance.random() < share and illness_of(seed) not in needed_for
        for pattern in patterns
    ]
    return build_scenario(draft.table)
