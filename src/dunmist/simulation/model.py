"""A model computer: its processes, what they did so far, and how a step of time changes that.

Conservation holds by construction: what processes and short-lived children ran is what the
processors count as busy. Everything random comes from one generator with a fixed seed.
"""

import math
import random
from dataclasses import dataclass, field

from dunmist.simulation.scenario import ProgramSpec, Scenario
from dunmist.simulation.scheduler import Share, Want, place_on_processors, share_processors

STEP_S = 0.05
CLK_PER_S = 100
MIB = 1 << 20
FIRST_PID = 400
LOAD_SPANS_S = (60.0, 300.0, 900.0)
STALL_SPANS_S = (10.0, 60.0, 300.0)
# a start-up spike lasts this long into a capture
SETTLED_S = 6.0
COLLISION = 0.02
SEED = 7


@dataclass(slots=True)
class ModelThread:
    """One thread: nanoseconds run and waited so far."""

    tid: int
    run_ns: float = 0.0
    delay_ns: float = 0.0


@dataclass(slots=True)
class ModelProcess:
    """One process and its counters."""

    spec: ProgramSpec
    pid: int
    ppid: int
    start_clk: int
    threads: list[ModelThread]
    phase: float
    user_s: float = 0.0
    system_s: float = 0.0
    children_s: float = 0.0
    read_bytes: float = 0.0
    write_bytes: float = 0.0
    processor: int = 0
    running: bool = False
    changed: bool = True
    worker: bool = False


@dataclass(slots=True)
class ModelProcessor:
    """Seconds of one logical processor by kind."""

    user: float = 0.0
    nice: float = 0.0
    system: float = 0.0
    idle: float = 0.0
    khz: int = 0


@dataclass(slots=True)
class Stalls:
    """Time in which some task waited: total and the kernel's damped averages, in percent."""

    total_us: float = 0.0
    averages: list[float] = field(default_factory=lambda: [0.0, 0.0, 0.0])

    def add(self, share: float, step_s: float) -> None:
        """Account one step of which a share was stalled."""
        self.total_us += share * step_s * 1e6
        for index, span_s in enumerate(STALL_SPANS_S):
            decay = math.exp(-step_s / span_s)
            self.averages[index] = self.averages[index] * decay + 100 * share * (1 - decay)


class ModelComputer:
    """A patient that moves in virtual time."""

    def __init__(self, scenario: Scenario) -> None:
        machine = scenario.machine
        self.scenario = scenario
        self.now_s = 0.0
        self.random = random.Random(SEED)
        count = machine.packages * machine.cores * machine.threads_per_core
        self.processors = [ModelProcessor(idle=machine.uptime_s) for _ in range(count)]
        self.processes: list[ModelProcess] = []
        self.cpu_stalls = Stalls()
        self.load = [0.0, 0.0, 0.0]
        self.runnable = 1
        self.forks = 0.0
        self.switches = 0.0
        self.steps = 0
        self.load_by_sensor = [0.0 for _ in scenario.hardware.sensors]
        self.disk_busy_s = 0.0
        self._start_programs()
        wanted = sum(want.cores for want in self._wants())
        self.load = [wanted * part for part in (1.0, 0.9, 0.7)]

    @property
    def uptime_s(self) -> float:
        """Seconds since the model computer started."""
        return self.scenario.machine.uptime_s + self.now_s

    def advance_to(self, now_s: float) -> None:
        """Move on to a moment of virtual time in small steps."""
        while self.now_s < now_s - 1e-9:
            self._step(min(STEP_S, now_s - self.now_s))

    def _start_programs(self) -> None:
        pids = {"init": 1, "kthreadd": 2}
        next_pid = FIRST_PID
        start_clk = 100
        for spec in self.scenario.programs:
            pid = pids.get(spec.name)
            if pid is None:
                pid, next_pid = next_pid, next_pid + 7
                pids[spec.name] = pid
            ppid = 0 if pid <= 2 else pids[spec.parent or ("kthreadd" if spec.kernel else "init")]
            first = self._process(spec, pid, ppid, start_clk)
            self.processes.append(first)
            for _ in range(spec.peers):
                peer = self._process(spec, next_pid, pid, start_clk + 40)
                peer.worker = True
                self.processes.append(peer)
                next_pid += 3
            start_clk += 90

    def _process(self, spec: ProgramSpec, pid: int, ppid: int, start_clk: int) -> ModelProcess:
        threads = [ModelThread(pid + index) for index in range(spec.threads)]
        process = ModelProcess(spec, pid, ppid, start_clk, threads, self.random.random())
        lived_s = self.uptime_s - start_clk / CLK_PER_S
        process.user_s = spec.demand_cores * spec.threads * lived_s * 0.4 * (1 - spec.system_share)
        process.system_s = spec.demand_cores * spec.threads * lived_s * 0.4 * spec.system_share
        return process

    def _want(self, process: ModelProcess) -> float:
        spec = process.spec
        # the first of several processes only hands out work
        demand = 0.02 if spec.peers and not process.worker else spec.demand_cores
        if spec.behaviour == "idle":
            return demand if self.random.random() < 0.1 else 0.0
        if spec.behaviour == "bursty":
            cycle = math.sin(2 * math.pi * (self.now_s / 5.0 + process.phase))
            return demand * 2 if cycle > 0.3 else demand * 0.2
        if spec.behaviour == "start-up" and self.now_s > SETTLED_S:
            return 0.02
        return demand

    def _wants(self) -> list[Want]:
        wants = []
        for process in self.processes:
            want = min(1.0, self._want(process))
            wants += [Want(want, process.spec.nice)] * len(process.threads)
            lanes = _child_lanes(process.spec)
            for _ in range(lanes):
                children = process.spec.children_per_s * process.spec.child_cpu_s / lanes
                wants.append(Want(children, process.spec.nice))
        return wants

    def _step(self, step_s: float) -> None:
        wants = self._wants()
        shares = share_processors(wants, len(self.processors))
        self._account_processes(shares, step_s)
        self._account_processors(shares, step_s)
        waited = sum(share.waited for share in shares)
        none_waits = math.prod(1.0 - min(1.0, share.waited) for share in shares)
        used = sum(share.ran for share in shares) / len(self.processors)
        some = max(1.0 - none_waits, COLLISION * used**2)
        self.cpu_stalls.add(some, step_s)
        active = sum(want.cores for want in wants)
        self.runnable = max(1, round(active + self.random.uniform(-0.4, 0.4)))
        for index, span_s in enumerate(LOAD_SPANS_S):
            decay = math.exp(-step_s / span_s)
            self.load[index] = self.load[index] * decay + active * (1 - decay)
        self._move_peripherals(used, step_s)
        self.switches += step_s * (800 + 400 * active + 2000 * waited)
        self.now_s += step_s
        self.steps += 1

    def _move_peripherals(self, used: float, step_s: float) -> None:
        """Let every sensor follow the load at its own pace, and the first disk work."""
        hardware = self.scenario.hardware
        for place, sensor in enumerate(hardware.sensors):
            change = 1.0 - math.exp(-step_s / sensor.settles_s)
            self.load_by_sensor[place] += (used - self.load_by_sensor[place]) * change
        moved_mib = sum(
            one.spec.read_mib_per_s + one.spec.write_mib_per_s for one in self.processes
        )
        if hardware.disks:
            self.disk_busy_s += step_s * min(1.0, moved_mib / hardware.disks[0].mib_per_s)

    def _account_processes(self, shares: list[Share], step_s: float) -> None:
        position = 0
        for process in self.processes:
            spec = process.spec
            ran = 0.0
            for thread in process.threads:
                share = shares[position]
                position += 1
                thread.run_ns += share.ran * step_s * 1e9
                thread.delay_ns += share.waited * step_s * 1e9
                ran += share.ran
            for _ in range(_child_lanes(spec)):
                process.children_s += shares[position].ran * step_s
                position += 1
            self.forks += spec.children_per_s * step_s
            process.user_s += ran * step_s * (1 - spec.system_share)
            process.system_s += ran * step_s * spec.system_share
            process.read_bytes += spec.read_mib_per_s * step_s * MIB
            process.write_bytes += spec.write_mib_per_s * step_s * MIB
            process.running = ran > 0.3
            process.changed = process.changed or ran > 0 or spec.children_per_s > 0

    def _account_processors(self, shares: list[Share], step_s: float) -> None:
        owners = self._owners()
        placed = place_on_processors(
            [share.ran for share in shares], len(self.processors), self.steps // 20
        )
        machine = self.scenario.machine
        for number, (processor, parts) in enumerate(zip(self.processors, placed, strict=True)):
            busy = 0.0
            for part, process in zip(parts, owners, strict=True):
                if part <= 0:
                    continue
                busy += part
                system = part * process.spec.system_share
                processor.system += system * step_s
                if process.spec.nice > 0:
                    processor.nice += (part - system) * step_s
                else:
                    processor.user += (part - system) * step_s
                if part > 0.3:
                    process.processor = number
            processor.idle += max(0.0, 1.0 - busy) * step_s
            span = machine.max_mhz - machine.min_mhz
            processor.khz = round((machine.min_mhz + span * min(1.0, busy * 1.3)) * 1000)

    def _owners(self) -> list[ModelProcess]:
        owners = []
        for process in self.processes:
            owners += [process] * (len(process.threads) + _child_lanes(process.spec))
        return owners


def _child_lanes(spec: ProgramSpec) -> int:
    """Return how many short-lived children of a program want to run at the same time."""
    return math.ceil(spec.children_per_s * spec.child_cpu_s)
