"""What a patient's programs together ask of each resource, divided by what it can give.

Reckoned from how the patient was made, before it moves: above 1 somebody has to wait. The truth of
patients that were drawn with neighbours, rivals and odd hardware follows from it.
"""

from collections import Counter
from collections.abc import Callable
from typing import NamedTuple

from dunmist.simulation.disks import MIB, Disk
from dunmist.simulation.paging import COMPRESSED_SIZE, LEAST_CACHE_MIB
from dunmist.simulation.processes import SETTLED_S
from dunmist.simulation.scenario import MachineSpec, ProgramSpec, Scenario

# what bursts and idle programs want on average, of what they want at most (see processes)
PATTERN_SHARE = {"steady": 1.0, "bursty": 0.79, "idle": 0.1}
# what a program that starts up wants afterwards; a state counts if it lasts half of the capture
SETTLED_SHARE, LASTS = 0.04, 0.5
LINK_SHARE, BITS = 0.95, 8


class Asked(NamedTuple):
    """``strength`` is what is asked of what can be given, ``by`` the program that asks for most."""

    strength: float
    by: str | None


def strengths(scenario: Scenario, duration_s: float) -> dict[str, Asked]:
    """Return what is asked of each resource in a capture of so many seconds."""
    machine = scenario.machine
    processors = machine.packages * machine.cores * machine.threads_per_core
    left = 1.0 - machine.stolen_share
    slower = machine.max_mhz / (machine.clock_limit_mhz or machine.max_mhz)
    default = next((link for link in scenario.hardware.links if link.is_default), None)
    line_mib = (default.mbit_per_s or 300 if default else 1) * 1e6 * LINK_SHARE / BITS / MIB
    disk = Disk(scenario.hardware.disks[0])

    def disk_share(program: ProgramSpec) -> float:
        size = program.request_kib * 1024
        moved = (program.read_mib_per_s + program.write_mib_per_s) * MIB
        return moved / size * disk.service_s(size) * _count(program)

    def asked(of: Callable[[ProgramSpec], float], room: float, *, together: bool = True) -> Asked:
        wants: dict[str, float] = Counter()
        for program in scenario.programs:
            # what is started all the time is the work of who starts it
            is_builder = bool(program.restarts_every_s and program.parent)
            wants[(is_builder and program.parent) or program.name] += of(program)
        most = max(wants, key=lambda name: wants[name])
        return Asked((sum(wants.values()) if together else wants[most]) / room, most)

    return {
        "memory": asked(_touched_mib, _room_mib(scenario)),
        "disk": asked(disk_share, 1.0),
        "link": max(
            asked(lambda program: program.sent_mib_per_s * _count(program), line_mib),
            asked(lambda program: program.received_mib_per_s * _count(program), line_mib),
        ),
        "cpu": asked(lambda processor: _cores(processor, slower, duration_s), processors * left),
        "core": asked(lambda tried: _of_one_core(tried, slower), left, together=False),
    }


def _count(program: ProgramSpec) -> int:
    return 1 + program.peers


def _each_core(program: ProgramSpec, slower: float) -> float:
    return min(1.0, program.demand_cores * slower)


def _cores(program: ProgramSpec, slower: float, duration_s: float) -> float:
    """Return the CPUs that a program wants; one of low priority takes none from others."""
    # what follows from something else is busy only when that is so
    if program.nice > 0 or program.driver:
        return 0.0
    starts_up = 1.0 if LASTS * duration_s <= SETTLED_S else SETTLED_SHARE
    share = PATTERN_SHARE.get(program.pattern, starts_up)
    # the first of several only hands out work
    working = max(1, program.peers) * program.busy_threads
    children = program.children_per_s * program.child_cpu_s * slower
    return _each_core(program, slower) * share * working + children


def _of_one_core(program: ProgramSpec, slower: float) -> float:
    is_alone = program.pattern == "steady" and program.busy_threads == 1 and not program.peers
    is_alone &= not program.restarts_every_s
    gives_way = program.nice > 0 or program.driver
    return _each_core(program, slower) if is_alone and not gives_way else 0.0


def _touched_mib(program: ProgramSpec) -> float:
    return program.private_mib * program.touched_share * _count(program)


def _room_mib(scenario: Scenario) -> float:
    """Return the memory that programs can have beside kernel, files and compressed pages."""
    machine: MachineSpec = scenario.machine
    room = machine.memory_mib - machine.kernel_mib - LEAST_CACHE_MIB
    if not machine.compressed_swap:
        return room
    held = sum(program.private_mib * _count(program) for program in scenario.programs)
    # what does not fit is compressed, which leaves less room: x = room - (held - x) / 3
    compressed = max(0.0, (held - room) / (1.0 - COMPRESSED_SIZE), machine.swap_used_mib)
    return room - min(machine.swap_mib, compressed) * COMPRESSED_SIZE
