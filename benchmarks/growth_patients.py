"""Model computers of any size: the ringing office's desk with more of one thing.

What grows is asked for by name, and the rest stays. There are always programs that work: the nest
camera's indexer takes more than the CPUs have, so that there is an answer to find.
"""

import msgspec

from dunmist.simulation import Scenario, load_scenario
from dunmist.simulation.scenario import DiskSpec, ProgramSpec

# a server's applications have some twenty processes each
PROCESSES_EACH = 20
MIB_EACH, SPARE_MIB = 6, 8192
# of one program; the model gives each a hundred numbers for sockets
SOCKETS_EACH = 90


def grown(
    *,
    cpus: int = 4,
    processes: int = 120,
    sockets: int = 0,
    disks: int = 1,
    each: int = PROCESSES_EACH,
) -> Scenario:
    """Return a patient with so many of each; ``each`` is how many processes an application has."""
    patient = load_scenario("ringing-office")
    crowd = _crowd(patient, processes, sockets, each)
    came = sum(1 + program.peers for program in crowd)
    machine = msgspec.structs.replace(
        patient.machine,
        cores=cpus,
        memory_mib=SPARE_MIB + came * MIB_EACH + cpus * 300,
        cache_mib=1500,
    )
    programs = [_indexer(program, cpus) for program in patient.programs]
    first = patient.hardware.disks[0]
    others = [DiskSpec(f"sd{_letters(number)}", first.model, 476) for number in range(1, disks)]
    hardware = msgspec.structs.replace(patient.hardware, disks=[first, *others], modules=[])
    return msgspec.structs.replace(
        patient, machine=machine, programs=[*programs, *crowd], hardware=hardware
    )


def _indexer(program: ProgramSpec, cpus: int) -> ProgramSpec:
    if program.name != "nestcam-index":
        return program
    return msgspec.structs.replace(program, peers=program.peers * cpus // 4 + 1, private_mib=40)


def _crowd(patient: Scenario, processes: int, sockets: int, each: int) -> list[ProgramSpec]:
    spare = next(program for program in patient.programs if program.name == "weather-mast")
    held = sum(1 + program.peers for program in patient.programs)
    applications = max((processes - held) // each, -(-sockets // SOCKETS_EACH))
    return [
        msgspec.structs.replace(
            spare,
            name=f"gull-{number}",
            listens=[],
            talks_to=[
                f"172.16.{place}.{number % 200 + 20}:{5000 + number // 200}"
                for place in range(min(SOCKETS_EACH, sockets - SOCKETS_EACH * number))
            ],
            private_mib=4.0,
            shared_mib=2.0,
            peers=each - 1,
            pattern="bursty" if number % 10 == 0 else "idle",
            demand_cores=0.002 if number % 10 == 0 else 0.0,
            cgroup=f"/system.slice/gull-{number}.service",
        )
        for number in range(applications)
    ]


def _letters(number: int) -> str:
    """Return the letters of a disk: a to z, then aa, as the kernel names them."""
    text = ""
    while number >= 0:
        text = chr(ord("a") + number % 26) + text
        number = number // 26 - 1
    return text
