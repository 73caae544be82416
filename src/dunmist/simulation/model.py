"""A model computer: what its processes want, what they get, and how a step of time changes both.

Each step goes the way of causes: memory, disks and links first, because who waits for them does not
run; then heat and clock; then the CPUs. Conservation holds by construction: what processes
and short-lived children ran is what the CPUs count as busy. Everything random comes from one
seed.
"""

import math
import random
from dataclasses import dataclass

import numpy as np

from dunmist.simulation.disks import Disk, Request
from dunmist.simulation.heat import Package
from dunmist.simulation.links import Link
from dunmist.simulation.paging import MIB, Memory, stalled_by
from dunmist.simulation.processes import ProcessSet
from dunmist.simulation.scenario import Driver, ProgramSpec, Scenario
from dunmist.simulation.scheduler import Floats, place_on_processors, share_processors
from dunmist.simulation.stalls import Stalls

# shorter than any tick, and cheap enough for an hour of model time
STEP_S = 0.1
# kernel/sched/loadavg.c
LOAD_SPANS_S = (60.0, 300.0, 900.0)
# even on a half empty machine two tasks meet on one processor now and then
COLLISION = 0.02
INTERRUPT_S = 4e-6  # CPU time that one interrupt takes
# CONFIG_HZ of most distributions
TIMER_HZ = 250.0
# the kernel swaps in clusters of eight pages (vm.page-cluster)
SWAP_REQUEST_BYTES = 32 << 10
# a governor goes somewhat above what is in use, so that it has room to grow
GOVERNOR_HEADROOM = 1.3
# the same patient each time
SEED = 7


@dataclass(slots=True)
class ModelProcessor:
    """Seconds of one logical CPU by kind, as /proc/stat has them."""

    user: float = 0.0
    nice: float = 0.0
    system: float = 0.0
    idle: float = 0.0
    iowait: float = 0.0
    irq: float = 0.0
    softirq: float = 0.0
    steal: float = 0.0
    khz: int = 0  # its clock now


class ModelComputer:
    """A patient that moves in virtual time."""

    def __init__(self, scenario: Scenario, seed: int = SEED) -> None:
        machine, hardware = scenario.machine, scenario.hardware
        self.scenario = scenario
        # by identity: two programs may be alike
        self.program_index = {id(spec): index for index, spec in enumerate(scenario.programs)}
        self.now_s = 0.0
        self.steps = 0
        self.chance = np.random.default_rng(seed)
        self.processes = ProcessSet(scenario, random.Random(seed))
        count = machine.packages * machine.cores * machine.threads_per_core
        self.processors = [ModelProcessor(idle=machine.uptime_s) for _ in range(count)]
        self.packages = [Package(hardware.heat) for _ in range(machine.packages)]
        self.memory = Memory(
            machine.memory_mib,
            machine.kernel_mib,
            machine.cache_mib,
            machine.swap_mib,
            machine.swap_used_mib,
            machine.compressed_swap,
            machine.files_in_memory_mib,
            machine.huge_pages_mib,
        )
        self.disks = [Disk(spec) for spec in hardware.disks]
        self.links = [Link(spec) for spec in hardware.links]
        self._askers = [
            [
                process
                for process in self.processes.all
                if process.spec.disk == number
                and not process.spec.state
                and (process.spec.read_mib_per_s or process.spec.write_mib_per_s)
            ]
            for number in range(len(self.disks))
        ]
        self.cpu_stalls, self.io_stalls = Stalls(), Stalls()
        self.groups: dict[str, list[float]] = {}  # usage_s, periods, limited periods, limited_s
        self.runnable, self.blocked = 1, 0
        self.forks = self.switches = self.interrupts = self.device_interrupts = 0.0
        self.graphics_used = 0.0
        self.battery_used_wh = 0.0
        self._used = [0.0] * machine.packages
        self.load = [0.0, 0.0, 0.0]
        self._settle()

    @property
    def uptime_s(self) -> float:
        """Seconds since the model computer started."""
        return self.scenario.machine.uptime_s + self.now_s

    @property
    def clock_ratio(self) -> float:
        """Part of the maximum clock that a fully busy CPU has."""
        machine = self.scenario.machine
        limit = (machine.clock_limit_mhz or machine.max_mhz) / machine.max_mhz
        return min(limit, *(package.clock_share for package in self.packages))

    def most_mhz(self, number: int) -> int:
        """Return the greatest clock of a logical CPU."""
        machine = self.scenario.machine
        is_small = number >= len(self.processors) - machine.small_cores
        return min(machine.max_mhz, machine.small_max_mhz) if is_small else machine.max_mhz

    def advance_to(self, now_s: float) -> None:
        """Move on to a virtual time in small steps."""
        while self.now_s < now_s - 1e-9:
            self._step(min(STEP_S, now_s - self.now_s))

    def _settle(self) -> None:
        """Begin as a computer that has been doing this for a while."""
        self.memory.step(
            self._private_mib(), 0.0, 1, 0.0, kept_out_share=self.processes.kept_out_share
        )
        wanted = self._wanted_cores(self._drivers())
        # only what works all the time has warmed the computer before the capture
        lasting = float(np.minimum(wanted, 1.0)[self.processes.pattern == 0].sum())
        used = min(1.0, lasting / len(self.processors))
        for package in self.packages:
            package.settle(used)
        self.load = [max(0.01, lasting) * part for part in (1.0, 0.95, 0.8)]

    def _private_mib(self) -> float:
        return float(self.processes.figures["private_mib"].sum())

    def _drivers(self) -> dict[Driver, float]:
        return {
            "heat": max(1.0 - package.clock_share for package in self.packages) * 1.3,
            "paging": self.memory.stalled,
            "disk": self.disks[0].used if self.disks else 0.0,
            "interrupts": min(1.0, self.scenario.machine.interrupts_per_s * INTERRUPT_S * 2),
        }

    def _wanted_cores(self, drivers: dict[Driver, float]) -> Floats:
        wanted = self.processes.wants(self.now_s, self.chance, drivers)
        # work that takes a part of a CPU at full clock takes more of it at a lower one
        slowed: Floats = np.minimum(1.0, wanted / self.clock_ratio)
        return slowed

    def _step(self, step_s: float) -> None:
        processes = self.processes
        processes.restart_due(self.now_s, step_s)
        wanted = self._wanted_cores(self._drivers())
        held_up = self._page_and_move(wanted, step_s)
        lane_wants = self._lane_wants(wanted * (1 - held_up))
        machine = self.scenario.machine
        irq = min(0.9, machine.interrupts_per_s * INTERRUPT_S)
        capacity = len(self.processors) * (1 - machine.stolen_share) - irq
        allowed = self._apply_bindings(self._apply_quotas(lane_wants, step_s))
        shares = share_processors(allowed, processes.lanes.nice, max(0.1, capacity))
        # the kernel counts a task whose quota ran out as one that waits for a CPU
        waited = shares.waited + lane_wants - allowed
        self._account_processes(shares.ran, waited, held_up, step_s)
        self._account_processors(shares.ran, irq, held_up, step_s)
        self._account_machine(allowed, shares.ran, waited, step_s)
        for number, package in enumerate(self.packages):
            package.step(self._used[number], step_s)
        self._drain(step_s)
        self.now_s += step_s
        self.steps += 1

    def _lane_wants(self, wanted: Floats) -> Floats:
        lanes = self.processes.lanes
        own = wanted[lanes.process]
        children = self.processes.children[lanes.process] * lanes.part / self.clock_ratio
        wants: Floats = np.where(lanes.is_child, np.minimum(1.0, children), own)
        return wants

    def _page_and_move(self, wanted: Floats, step_s: float) -> Floats:
        """Move memory, disks and links; return the share of time that each process waits."""
        processes = self.processes
        figures = processes.figures
        figures["private_mib"] += processes.leaks * step_s
        touched = figures["private_mib"] * processes.touched
        swap_rate = self.memory.step(
            self._private_mib(),
            float(touched.sum()),
            int((touched > 50).sum()),
            step_s,
            kept_out_share=processes.kept_out_share,
            kept_out_mib=float(processes.kept_out_mib.sum()),
        )
        # a program that touches hardly any memory is not slowed down by a shortage
        held_up = np.where(touched > 1.0, self.memory.stalled, 0.0)
        held_up = np.maximum(held_up, stalled_by(processes.kept_out_share))
        figures["major_faults"] += held_up * 40 * step_s
        waited = self._move_disks(wanted, swap_rate, step_s)
        # waiting for pages and for a disk fall together by chance only
        held_up = 1 - (1 - held_up) * (1 - waited)
        figures["io_delay_s"] += held_up * step_s
        self._move_links(step_s)
        held_up[processes.held] = 1.0
        figures["descriptors"] += processes.descriptor_rise * step_s
        figures["graphics_s"] += processes.graphics * step_s
        self.graphics_used = min(1.0, float(processes.graphics.sum()))
        processes.changed |= held_up > 0.02
        return held_up

    def _move_disks(self, wanted: Floats, swap_rate: float, step_s: float) -> Floats:
        processes = self.processes
        waited = np.zeros(len(processes.all))
        none_waits = 1.0
        for number, disk in enumerate(self.disks):
            askers = self._askers[number]
            wants = [_request(asker.spec, self.now_s) for asker in askers]
            if number == 0:
                wants.append(Request(swap_rate / 2, swap_rate / 2, SWAP_REQUEST_BYTES))
            for asking, want, (served, share) in zip(
                askers, wants, disk.step(wants, step_s), strict=False
            ):
                waits = max(share, 1 - _let_through(asking.spec))
                waited[asking.index] = waits
                none_waits *= 1 - waits
                processes.figures["read_bytes"][asking.index] += want.read * served * step_s
                processes.figures["write_bytes"][asking.index] += want.written * served * step_s
        # pages from compressed memory wait for no disk
        paging = 0.0 if self.memory.compressed else self.memory.stalled
        some = 1 - none_waits * (1 - paging)
        self.io_stalls.add(some, some**3, step_s)
        return waited

    def _move_links(self, step_s: float) -> None:
        default = next((link for link in self.links if link.spec.is_default), None)
        if default is None:
            return
        for direction, mib in (
            ("sent", self.processes.sent_mib),
            ("received", self.processes.received_mib),
        ):
            served = default.step(direction, float(mib.sum()) * MIB, step_s)
            self.processes.figures[f"{direction}_bytes"] += mib * MIB * served * step_s

    def _apply_quotas(self, wants: Floats, step_s: float) -> Floats:
        wants = wants.copy()
        for path, (quota, mine) in self.processes.quotas.items():
            total = float(wants[mine].sum())
            figures = self.groups.setdefault(path, [0.0, 0.0, 0.0, 0.0])
            figures[1] += step_s * 10
            if total > quota:
                wants[mine] *= quota / total
                figures[2] += step_s * 10
                figures[3] += (1 - quota / total) * step_s
        return wants

    def _apply_bindings(self, wants: Floats) -> Floats:
        """Return what is left of the wants on the CPUs that each thread may use."""
        wants = wants.copy()
        cpus_most = self.processes.lanes.cpus_most
        for most in np.unique(cpus_most[cpus_most > 0]):
            mine = cpus_most == most
            wants[mine] *= min(1.0, float(most) / max(float(wants[mine].sum()), 1e-9))
        return wants

    def _account_processes(
        self, ran: Floats, waited: Floats, held_up: Floats, step_s: float
    ) -> None:
        processes, lanes = self.processes, self.processes.lanes
        figures = processes.figures
        count = len(processes.all)
        own = np.where(lanes.is_child, 0.0, ran)
        used = np.asarray(np.bincount(lanes.process, own, count) * step_s, dtype=np.float64)
        system = np.bincount(lanes.process, own * lanes.system_share, count) * step_s
        figures["user_s"] += used - system
        figures["system_s"] += system
        figures["children_s"] += (
            np.bincount(lanes.process, np.where(lanes.is_child, ran, 0.0), count) * step_s
        )
        figures["minor_faults"] += used * 900
        for lane in np.flatnonzero((ran > 0) & ~lanes.is_child):
            process, thread = processes.all[lanes.process[lane]], lanes.thread[lane]
            process.run_ns[thread] += float(ran[lane]) * step_s * 1e9
            process.delay_ns[thread] += float(waited[lane]) * step_s * 1e9
        for path, share in self._group_use(used).items():
            self.groups.setdefault(path, [0.0, 0.0, 0.0, 0.0])[0] += share
        self.forks += processes.forks_per_s * step_s
        busiest = np.bincount(lanes.process, own, count)
        # one sample sees the present state: the one that takes more than half of the time
        stuck = (held_up > 0.5) & ~processes.held
        states = np.where(stuck, "D", np.where(busiest > 0.3, "R", "S"))
        for process, state, fixed in zip(processes.all, states, processes.fixed, strict=True):
            if not fixed:
                process.state = str(state)
        processes.changed |= busiest > 0
        processes.changed |= processes.children > 0

    def _group_use(self, used: Floats) -> dict[str, float]:
        total: dict[str, float] = {}
        for process in self.processes.all:
            if used[process.index]:
                path = process.spec.cgroup
                total[path] = total.get(path, 0.0) + float(used[process.index])
        return total

    def _account_processors(self, ran: Floats, irq: float, held_up: Floats, step_s: float) -> None:
        lanes, machine = self.processes.lanes, self.scenario.machine
        count = len(self.processors)
        room = np.full(count, 1.0 - machine.stolen_share)
        # device interrupts are served by one processor, as without a balancing daemon
        room[0] = max(0.0, room[0] - irq)
        placed = place_on_processors(ran, room, self.steps // 10, lanes.cpus_most)
        busy = placed.sum(axis=1)
        system = placed @ lanes.system_share
        low = placed @ ((1 - lanes.system_share) * (lanes.nice > 0))
        waiting = min(float(count), float(held_up.sum()))
        idle_left = np.maximum(0.0, 1 - busy - machine.stolen_share)
        idle_left[0] = max(0.0, idle_left[0] - irq)
        each = waiting / max(float(idle_left.sum()), 1e-9)
        ratio = self.clock_ratio
        for number, processor in enumerate(self.processors):
            iowait = idle_left[number] * min(1.0, each) * 0.9
            own_irq = irq if number == 0 else 0.0
            processor.user += (busy[number] - system[number] - low[number]) * step_s
            processor.nice += low[number] * step_s
            processor.system += system[number] * step_s
            processor.irq += own_irq * 0.4 * step_s
            processor.softirq += own_irq * 0.6 * step_s
            processor.steal += machine.stolen_share * step_s
            processor.iowait += iowait * step_s
            processor.idle += max(0.0, idle_left[number] - iowait) * step_s
            ahead = min(1.0, float(busy[number] + own_irq) * GOVERNOR_HEADROOM)
            span = max(0.0, self.most_mhz(number) * ratio - machine.min_mhz)
            processor.khz = round((machine.min_mhz + span * ahead) * 1000)
        per = max(1, count // len(self.packages))
        self._used = [
            float(busy[start : start + per].mean())
            for start in range(0, per * len(self.packages), per)
        ]
        where = placed.argmax(axis=0)
        for lane in np.flatnonzero(ran > 0.3):
            self.processes.all[lanes.process[lane]].processor = int(where[lane])

    def _account_machine(self, wants: Floats, ran: Floats, waited: Floats, step_s: float) -> None:
        ordinary_wait = np.minimum(1.0, waited)
        # some task waits unless all of them run; they wait independently
        none_waits = float(np.prod(1.0 - ordinary_wait))
        used = float(ran.sum()) / len(self.processors)
        self.cpu_stalls.add(max(1.0 - none_waits, COLLISION * used**2), 0.0, step_s)
        blocked = sum(process.state == "D" for process in self.processes.all)
        active = float(wants.sum())
        self.runnable = max(1, round(active + self.chance.uniform(-0.4, 0.4)))
        self.blocked = blocked
        for index, span_s in enumerate(LOAD_SPANS_S):
            # the damped mean of the kernel, its five-second steps aside (kernel/sched/loadavg.c)
            decay = math.exp(-step_s / span_s)
            self.load[index] = self.load[index] * decay + (active + blocked) * (1 - decay)
        self.switches += step_s * (800 + 400 * active + 2000 * float(waited.sum()))
        self.device_interrupts += self.scenario.machine.interrupts_per_s * step_s
        self.interrupts += step_s * TIMER_HZ * len(self.processors)

    def _drain(self, step_s: float) -> None:
        battery = self.scenario.hardware.battery
        if battery:
            watts = battery.rest_w + sum(package.power_w for package in self.packages)
            self.battery_used_wh += watts * step_s / 3600


def _let_through(spec: ProgramSpec) -> float:
    """Return the part of what a program wants to read that the limit of its group allows."""
    if spec.reads_most_mib_per_s is None or not spec.read_mib_per_s:
        return 1.0
    return min(1.0, spec.reads_most_mib_per_s / spec.read_mib_per_s)


def _request(spec: ProgramSpec, now_s: float) -> Request:
    """Return what a program asks of its disk each second."""
    size = spec.request_kib * 1024
    if now_s < spec.starts_s:
        return Request(0.0, 0.0, size)
    read = spec.read_mib_per_s * _let_through(spec)
    return Request(read * MIB, spec.write_mib_per_s * MIB, size)
