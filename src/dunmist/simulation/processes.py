"""The processes of a model computer: who they are, what they want, what they have used.

Figures of all processes lie in arrays, so that a step costs the same for ten and for three hundred.
"""

import math
import random
from dataclasses import dataclass, field

import numpy as np

from dunmist.simulation.scenario import Driver, ProgramSpec, Scenario
from dunmist.simulation.scheduler import Floats

# USER_HZ, the unit of times in /proc, proc_pid_stat(5)
CLK_PER_S = 100
FIRST_PID = 400
SETTLED_S = 5.0  # a start-up spike lasts this long into a capture
# how long a program that comes in bursts works at a time
BURST_S = 5.0
IDLE_CHANCE = 0.1
PATTERNS = ("steady", "bursty", "start-up", "idle")
COUNTERS = (
    "user_s",
    "system_s",
    "children_s",
    "read_bytes",
    "write_bytes",
    "sent_bytes",
    "received_bytes",
    "minor_faults",
    "major_faults",
    "io_delay_s",
    "private_mib",
    "descriptors",
    "graphics_s",
)


@dataclass(slots=True)
class ModelProcess:
    """One process of a model computer."""

    spec: ProgramSpec
    index: int  # in the arrays of figures
    pid: int
    ppid: int
    start_clk: int
    worker: bool = False  # a peer that does the work of the first one
    defunct: bool = False
    state: str = "S"
    processor: int = 0
    run_ns: list[float] = field(default_factory=list)  # by thread
    delay_ns: list[float] = field(default_factory=list)
    gone: list[int] = field(default_factory=list)  # numbers it had before it was restarted


class Lanes:
    """Tasks that can run at the same time: threads, and short-lived children of each program."""

    def __init__(self, processes: list[ModelProcess]) -> None:
        rows = [
            (process.index, thread, 1.0)
            for process in processes
            for thread in range(min(process.spec.busy_threads, process.spec.threads))
            if not process.defunct
        ]
        for process in processes:
            lanes = math.ceil(process.spec.children_per_s * process.spec.child_cpu_s - 1e-9)
            rows += [(process.index, -1, 1.0 / max(lanes, 1))] * (0 if process.defunct else lanes)
        self.process = np.array([row[0] for row in rows])
        self.thread = np.array([row[1] for row in rows])
        self.part = np.array([row[2] for row in rows])
        self.is_child = self.thread < 0
        specs = [processes[index].spec for index in self.process]
        self.nice = np.array([float(spec.nice) for spec in specs])
        self.cpus_most = np.array([spec.cpus_most for spec in specs])
        self.system_share = np.array([spec.system_share for spec in specs])


class ProcessSet:
    """All processes of a scenario and their figures."""

    def __init__(self, scenario: Scenario, chance: random.Random) -> None:
        self._pids = {"init": 1, "kthreadd": 2}
        self._next_pid = FIRST_PID
        self.all: list[ModelProcess] = []
        self.uptime_s = scenario.machine.uptime_s
        for spec in scenario.programs:
            self._start(spec)
        count = len(self.all)
        self.figures: dict[str, Floats] = {name: np.zeros(count) for name in COUNTERS}
        self.changed = np.ones(count, dtype=bool)
        specs = [process.spec for process in self.all]
        self.pattern = np.array([PATTERNS.index(spec.pattern) for spec in specs])
        self.phase = np.array([chance.random() for _ in specs])
        self.demand = np.array([self._demand(process) for process in self.all])
        self.starts_s = np.array([spec.starts_s for spec in specs])
        self.children = np.array([spec.children_per_s * spec.child_cpu_s for spec in specs])
        self.touched = np.array([0.0 if spec.kernel else spec.touched_share for spec in specs])
        wanted_mib = np.array(
            [
                0.0 if process.defunct or process.spec.kernel else process.spec.private_mib
                for process in self.all
            ]
        )
        allowed_mib = np.array([spec.memory_limit_mib or np.inf for spec in specs])
        self.figures["private_mib"] += np.minimum(wanted_mib, allowed_mib)
        # memory that a limit keeps out, and its share of the limit
        self.kept_out_mib = np.maximum(0.0, wanted_mib - allowed_mib)
        self.kept_out_share = self.kept_out_mib / allowed_mib
        self.figures["descriptors"] += [float(spec.descriptors) for spec in specs]
        # constant demands of each process
        self.leaks = np.array([spec.leak_mib_per_s for spec in specs])
        self.descriptor_rise = np.array([spec.descriptors_per_s for spec in specs])
        self.graphics = np.array([spec.graphics_share for spec in specs])
        self.sent_mib = np.array([spec.sent_mib_per_s for spec in specs])
        self.received_mib = np.array([spec.received_mib_per_s for spec in specs])
        self.forks_per_s = sum(spec.children_per_s for spec in specs)
        names = {spec.name for spec in scenario.programs}
        self.held = np.array([bool(spec.state or spec.waits_on in names) for spec in specs])
        self.fixed = np.array([bool(process.defunct or process.spec.state) for process in self.all])
        self.lanes = Lanes(self.all)
        self.quotas = {
            spec.cgroup: (
                spec.quota_cores,
                np.array([specs[index].cgroup == spec.cgroup for index in self.lanes.process]),
            )
            for spec in specs
            if spec.quota_cores is not None
        }
        self._restarting = [process for process in self.all if process.spec.restarts_every_s]
        self._driven = [process for process in self.all if process.spec.driver]
        self._live_before()

    def by_name(self, name: str) -> ModelProcess | None:
        """Return the first process of a program."""
        return next((process for process in self.all if process.spec.name == name), None)

    def wants(
        self, now_s: float, chance: np.random.Generator, drivers: dict[Driver, float]
    ) -> Floats:
        """Return the CPU time that each process's thread wants at full clock, in cores."""
        sine = np.sin(2 * math.pi * (now_s / BURST_S + self.phase))
        factor = np.choose(
            self.pattern,
            [
                np.ones_like(sine),
                np.where(sine > 0.3, 1.6, 0.25),
                np.ones_like(sine) if now_s < SETTLED_S else np.full_like(sine, 0.04),
                (chance.random(len(sine)) < IDLE_CHANCE).astype(float),
            ],
        )
        wanted: Floats = np.where(now_s >= self.starts_s, self.demand * factor, 0.0)
        for process in self._driven:
            if process.spec.driver:
                wanted[process.index] *= drivers[process.spec.driver]
        return wanted

    def restart_due(self, now_s: float, step_s: float) -> None:
        """Let services that die come back under a new number."""
        for process in self._restarting:
            every_s = process.spec.restarts_every_s
            if int(now_s / every_s) != int((now_s - step_s) / every_s):
                process.gone.append(process.pid)
                process.pid, self._next_pid = self._next_pid, self._next_pid + 7
                process.start_clk = int((self.uptime_s + now_s) * CLK_PER_S)
                process.run_ns = [0.0] * process.spec.threads
                process.delay_ns = [0.0] * process.spec.threads
                self._waited_for(process)
                for name in ("user_s", "system_s", "children_s", "read_bytes", "write_bytes"):
                    self.figures[name][process.index] = 0.0
                self.changed[process.index] = True

    def _waited_for(self, process: ModelProcess) -> None:
        """Give the time of a process that ended to its parent, as the kernel does."""
        parent = next((other for other in self.all if other.pid == process.ppid), None)
        if parent is not None:
            used_s = sum(
                self.figures[name][process.index] for name in ("user_s", "system_s", "children_s")
            )
            self.figures["children_s"][parent.index] += used_s
            self.changed[parent.index] = True

    def _start(self, spec: ProgramSpec) -> None:
        first = self._add(spec, self._number(spec.name), self._parent(spec))
        for _ in range(spec.peers):
            self._add(spec, self._number(), first.pid).worker = True
        for _ in range(spec.defunct):
            child = self._add(spec, self._number(), first.pid)
            child.defunct, child.state = True, "Z"

    def _number(self, name: str | None = None) -> int:
        if name in self._pids:
            return self._pids[name]
        pid, self._next_pid = self._next_pid, self._next_pid + 7
        if name:
            self._pids[name] = pid
        return pid

    def _parent(self, spec: ProgramSpec) -> int:
        if spec.name in ("init", "kthreadd"):
            return 0
        return self._pids[spec.parent or ("kthreadd" if spec.kernel else "init")]

    def _add(self, spec: ProgramSpec, pid: int, ppid: int) -> ModelProcess:
        nothing = [0.0] * spec.threads
        start_clk = 100 + 60 * len(self.all)
        if spec.age_s is not None:
            start_clk = int((self.uptime_s - spec.age_s) * CLK_PER_S)
        process = ModelProcess(
            spec,
            len(self.all),
            pid,
            ppid,
            start_clk,
            state=spec.state or "S",
            run_ns=list(nothing),
            delay_ns=list(nothing),
        )
        self.all.append(process)
        return process

    def _demand(self, process: ModelProcess) -> float:
        if process.defunct or process.spec.state:
            return 0.0
        # the first of several processes only hands out work
        return 0.02 if process.spec.peers and not process.worker else process.spec.demand_cores

    def _live_before(self) -> None:
        """Give each process what it used before the capture began."""
        for process in self.all:
            spec = process.spec
            lived_s = min(self.uptime_s - process.start_clk / CLK_PER_S, 7200.0)
            busy = 1.0 if spec.pattern == "steady" and not spec.starts_s else 0.1
            used_s = spec.demand_cores * spec.busy_threads * lived_s * 0.4 * busy
            self.figures["user_s"][process.index] = used_s * (1 - spec.system_share)
            self.figures["system_s"][process.index] = used_s * spec.system_share
