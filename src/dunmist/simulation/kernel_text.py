"""The machine's own files below ``proc`` and ``sys/fs/cgroup``, written from a model computer.

Sources: those of the readers in ``dunmist.computer``; fields that nothing reads are given as an
idle machine has them.
"""

from collections.abc import Iterator
from datetime import datetime

from dunmist.simulation.disks import MIB
from dunmist.simulation.model import ModelComputer
from dunmist.simulation.processes import CLK_PER_S
from dunmist.simulation.stalls import Stalls

HUGE_PAGE_MIB = 2


def moving_files(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the files that are written again at every tick."""
    yield "proc/stat", stat(model)
    yield "proc/loadavg", loadavg(model)
    yield "proc/uptime", uptime(model)
    yield "proc/meminfo", meminfo(model)
    yield "proc/vmstat", vmstat(model)
    yield "proc/interrupts", interrupts(model)
    yield "proc/swaps", swaps(model)
    for resource, stalls in (
        ("cpu", model.cpu_stalls), ("memory", model.memory.stalls), ("io", model.io_stalls),
    ):
        yield f"proc/pressure/{resource}", pressure(stalls)
    yield from group_files(model)


def stat(model: ModelComputer) -> str:
    """Return ``/proc/stat``."""
    rows = [
        [
            round(seconds * CLK_PER_S)
            for seconds in (
                processor.user, processor.nice, processor.system, processor.idle,
                processor.iowait, processor.irq, processor.softirq, processor.steal, 0, 0,
            )
        ]
        for processor in model.processors
    ]
    total = [sum(column) for column in zip(*rows, strict=True)]
    lines = [f"cpu  {_joined(total)}"]
    lines += [f"cpu{number} {_joined(row)}" for number, row in enumerate(rows)]
    count = round(model.interrupts + model.device_interrupts)
    soft = [0, round(model.interrupts), 0, round(model.device_interrupts), 0, 0, 0,
            round(model.interrupts * 0.4), 0, round(model.interrupts * 0.3)]
    lines += [
        f"intr {count} 0 9",
        f"ctxt {round(model.switches)}",
        f"btime {boot_s(model)}",
        f"processes {round(model.forks) + len(model.processes.all) + 9000}",
        f"procs_running {model.runnable}",
        f"procs_blocked {model.blocked}",
        f"softirq {sum(soft)} {_joined(soft)}",
    ]
    return "\n".join(lines) + "\n"


def boot_s(model: ModelComputer) -> int:
    """Return the time of the start in seconds since 1970."""
    machine = model.scenario.machine
    return round(datetime.fromisoformat(machine.started).timestamp() - machine.uptime_s)


def loadavg(model: ModelComputer) -> str:
    """Return ``/proc/loadavg``."""
    averages = " ".join(f"{value:.2f}" for value in model.load)
    tasks = sum(process.spec.threads for process in model.processes.all)
    newest = max(process.pid for process in model.processes.all)
    return f"{averages} {model.runnable}/{tasks} {newest}\n"


def uptime(model: ModelComputer) -> str:
    """Return ``/proc/uptime``."""
    idle = sum(processor.idle for processor in model.processors)
    return f"{model.uptime_s:.2f} {idle:.2f}\n"


def pressure(stalls: Stalls) -> str:
    """Return one file of ``/proc/pressure``."""
    spans = zip((10, 60, 300), stalls.averages, strict=True)
    averages = " ".join(f"avg{span}={value:.2f}" for span, value in spans)
    full = "avg10=0.00 avg60=0.00 avg300=0.00"
    some_us, full_us = round(stalls.some_us), round(stalls.full_us)
    return f"some {averages} total={some_us}\nfull {full} total={full_us}\n"


def meminfo(model: ModelComputer) -> str:
    """Return ``/proc/meminfo``; its parts add up to MemTotal."""
    memory, machine = model.memory, model.scenario.machine
    programs, cache, kernel = memory.resident_mib, memory.cache_mib, memory.kernel_mib
    reclaimable = kernel * 0.3
    mib = {
        "MemTotal": machine.memory_mib,
        "MemFree": memory.free_mib,
        "MemAvailable": memory.free_mib + max(0.0, cache - 60) * 0.85 + reclaimable,
        "Buffers": cache * 0.05,
        "Cached": cache * 0.95 + memory.files_mib,
        "SwapCached": 0,
        "Active": programs + cache * 0.4,
        "Inactive": cache * 0.6,
        "Active(anon)": programs,
        "Inactive(anon)": cache * 0.05 + memory.files_mib,
        "Unevictable": 0,
        "SwapTotal": machine.swap_mib,
        "SwapFree": machine.swap_mib - memory.swapped_mib,
        "Dirty": 1,
        "AnonPages": programs,
        "Mapped": cache * 0.2,
        "Shmem": cache * 0.05 + memory.files_mib,
        "KReclaimable": reclaimable,
        "Slab": kernel * 0.8,
        "SReclaimable": reclaimable,
        "SUnreclaim": kernel * 0.5,
        "KernelStack": kernel * 0.06,
        "PageTables": kernel * 0.14,
        "Hugetlb": memory.reserved_mib,
        "Hugepagesize": HUGE_PAGE_MIB,
    }
    pages = round(memory.reserved_mib / HUGE_PAGE_MIB)
    counts = f"HugePages_Total: {pages:>8}\nHugePages_Free:  {pages:>8}\n"
    return counts + "".join(
        f"{name + ':':<16}{round(value * 1024):>8} kB\n" for name, value in mib.items()
    )


def vmstat(model: ModelComputer) -> str:
    """Return the lines of ``/proc/vmstat`` that are read."""
    moved = model.memory.counters
    disks = model.disks
    counters = {
        "pgpgin": 5_120_000 + sum(disk.read_bytes for disk in disks) / 1024,
        "pgpgout": 900_000 + sum(disk.written_bytes for disk in disks) / 1024,
        "pgfault": model.switches * 1.5,
        "oom_kill": 3 + model.now_s * model.scenario.machine.oom_kills_per_s,
        **{word: 21_000 + count for word, count in moved.items()},
    }
    return "".join(f"{name} {round(value)}\n" for name, value in counters.items())


def swaps(model: ModelComputer) -> str:
    """Return ``/proc/swaps``."""
    head = "Filename\t\t\t\tType\t\tSize\t\tUsed\t\tPriority\n"
    size, used = model.scenario.machine.swap_mib, model.memory.swapped_mib
    if not size:
        return head
    amounts = f"{size * 1024}\t\t{round(used * 1024)}\t\t-2"
    name = "/dev/zram0" if model.memory.compressed else "/dev/sda2"
    return f"{head}{name:<39} partition\t{amounts}\n"


def interrupts(model: ModelComputer) -> str:
    """Return ``/proc/interrupts``."""
    count = len(model.processors)
    disk = sum(drive.reads + drive.writes for drive in model.disks)
    lines = ["     " + "".join(f"{f'CPU{number}':>11}" for number in range(count)) + "\n"]
    for name, first, about in (
        ("16", model.device_interrupts,
         f"  IR-IO-APIC   16-fasteoi   {model.scenario.machine.interrupt_source}"),
        ("44", disk, "  IR-PCI-MSI    1-edge      ahci"),
    ):
        counts = [round(first)] + [0] * (count - 1)
        lines.append(f"{name:>4}:{''.join(f'{count:>11}' for count in counts)}{about}\n")
    ticks = round(model.interrupts / count)
    lines.append(f" LOC:{''.join(f'{ticks:>11}' for _ in range(count))}   Local timer interrupts\n")
    return "".join(lines)


def group_files(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the files of version 2 control groups."""
    yield "sys/fs/cgroup/cgroup.controllers", "cpu io memory pids\n"
    quotas = {process.spec.cgroup: process.spec.quota_cores for process in model.processes.all}
    for path in {process.spec.cgroup for process in model.processes.all if process.spec.frozen}:
        yield f"sys/fs/cgroup{path}/cgroup.events", "populated 1\nfrozen 1\n"
    for spec in model.scenario.programs:
        if spec.tasks_most:
            members = [each for each in model.processes.all if each.spec.cgroup == spec.cgroup]
            tasks = sum(each.spec.threads for each in members)
            directory = f"sys/fs/cgroup{spec.cgroup}"
            yield f"{directory}/pids.max", f"{spec.tasks_most}\n"
            yield f"{directory}/pids.current", f"{tasks}\n"
            yield f"{directory}/pids.events", f"max {spec.tasks_refused}\n"
        if spec.reads_most_mib_per_s is not None:
            most = round(spec.reads_most_mib_per_s * MIB)
            limits = f"rbps={most} wbps=max riops=max wiops=max"
            yield f"sys/fs/cgroup{spec.cgroup}/io.max", f"8:{16 * spec.disk} {limits}\n"
    for path, (usage_s, periods, limited, limited_s) in model.groups.items():
        directory, quota = f"sys/fs/cgroup{path}", quotas.get(path)
        limit = "max" if quota is None else round(quota * 100_000)
        yield f"{directory}/cpu.max", f"{limit} 100000\n"
        yield (
            f"{directory}/cpu.stat",
            (
                f"usage_usec {round(usage_s * 1e6)}\nnr_periods {round(periods)}\n"
                f"nr_throttled {round(limited)}\nthrottled_usec {round(limited_s * 1e6)}\n"
            ),
        )


def cpuinfo(model: ModelComputer) -> str:
    """Return ``/proc/cpuinfo``."""
    flags = "fpu sse2 hypervisor" if model.scenario.machine.stolen_share else "fpu sse2"
    return "".join(
        f"processor\t: {number}\nvendor_id\t: SkerrowWork\n"
        f"model name\t: {model.scenario.machine.model}\n"
        f"cpu MHz\t\t: {processor.khz / 1000:.3f}\nflags\t\t: {flags}\n\n"
        for number, processor in enumerate(model.processors)
    )


def _joined(values: list[int]) -> str:
    return " ".join(map(str, values))
