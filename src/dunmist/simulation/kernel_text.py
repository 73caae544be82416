"""The kernel's own text forms, written from a model computer.

Sources: those of the readers in ``dunmist.computer``; fields that nothing reads are given as an
idle machine has them.
"""

from collections.abc import Iterator

from dunmist.simulation.model import CLK_PER_S, MIB, ModelComputer, ModelProcess, Stalls

PF_KTHREAD = 0x00200000
PF_FORKNOEXEC = 0x00000040
PAGE_BYTES = 4096


def stat(model: ModelComputer) -> str:
    """Return ``/proc/stat``."""
    rows = [
        [
            round(seconds * CLK_PER_S)
            for seconds in (one.user, one.nice, one.system, one.idle, 0, 0, 0, 0, 0, 0)
        ]
        for one in model.processors
    ]
    total = [sum(column) for column in zip(*rows, strict=True)]
    lines = [f"cpu  {_joined(total)}"]
    lines += [f"cpu{number} {_joined(row)}" for number, row in enumerate(rows)]
    interrupts = round(model.switches * 0.6)
    boot_s = 1_936_000_000
    lines += [
        f"intr {interrupts} 0 9",
        f"ctxt {round(model.switches)}",
        f"btime {boot_s}",
        f"processes {round(model.forks) + len(model.processes) + 9000}",
        f"procs_running {model.runnable}",
        "procs_blocked 0",
        f"softirq {interrupts // 2} 0 0 0 0 0 0 0 0 0 0",
    ]
    return "\n".join(lines) + "\n"


def loadavg(model: ModelComputer) -> str:
    """Return ``/proc/loadavg``."""
    averages = " ".join(f"{value:.2f}" for value in model.load)
    tasks = sum(len(process.threads) for process in model.processes)
    newest = model.processes[-1].pid
    return f"{averages} {model.runnable}/{tasks} {newest}\n"


def uptime(model: ModelComputer) -> str:
    """Return ``/proc/uptime``."""
    idle = sum(processor.idle for processor in model.processors)
    return f"{model.uptime_s:.2f} {idle:.2f}\n"


def pressure(stalls: Stalls) -> str:
    """Return one file of ``/proc/pressure``."""
    spans = zip((10, 60, 300), stalls.averages, strict=True)
    averages = " ".join(f"avg{span}={value:.2f}" for span, value in spans)
    nothing = "avg10=0.00 avg60=0.00 avg300=0.00 total=0"
    return f"some {averages} total={round(stalls.total_us)}\nfull {nothing}\n"


def meminfo(model: ModelComputer) -> str:
    """Return ``/proc/meminfo``; its parts add up to MemTotal."""
    machine = model.scenario.machine
    private = sum(process.spec.private_mib for process in model.processes)
    slab, reclaimable = machine.kernel_mib * 0.5, machine.kernel_mib * 0.3
    tables = machine.kernel_mib * 0.2
    free = machine.memory_mib - private - machine.cache_mib - machine.kernel_mib
    available = free + machine.cache_mib * 0.85 + reclaimable
    mib = {
        "MemTotal": machine.memory_mib,
        "MemFree": free,
        "MemAvailable": available,
        "Buffers": machine.cache_mib * 0.05,
        "Cached": machine.cache_mib * 0.95,
        "SwapCached": 0,
        "Active": private + machine.cache_mib * 0.4,
        "Inactive": machine.cache_mib * 0.6,
        "SwapTotal": 2048,
        "SwapFree": 2048,
        "Dirty": 1,
        "AnonPages": private,
        "Mapped": machine.cache_mib * 0.2,
        "Shmem": machine.cache_mib * 0.05,
        "KReclaimable": reclaimable,
        "Slab": slab + reclaimable,
        "SReclaimable": reclaimable,
        "SUnreclaim": slab,
        "KernelStack": tables * 0.3,
        "PageTables": tables * 0.7,
    }
    return "".join(f"{name + ':':<16}{round(value * 1024):>8} kB\n" for name, value in mib.items())


def vmstat(model: ModelComputer) -> str:
    """Return the lines of ``/proc/vmstat`` that are read."""
    faults = round(model.switches * 1.5)
    counters = {
        "pgpgin": 5_120_000,
        "pgpgout": 900_000 + round(model.now_s * 40),
        "pswpin": 0,
        "pswpout": 0,
        "pgfault": faults,
        "pgmajfault": 21_000,
        "pgscan_kswapd": 0,
        "pgscan_direct": 0,
        "workingset_refault_anon": 0,
        "workingset_refault_file": 0,
        "oom_kill": 0,
    }
    return "".join(f"{name} {value}\n" for name, value in counters.items())


def process_stat(process: ModelProcess) -> str:
    """Return ``/proc/PID/stat``."""
    spec = process.spec
    flags = PF_KTHREAD | PF_FORKNOEXEC if spec.kernel else 0x00400000
    resident = 0 if spec.kernel else round((spec.private_mib + spec.shared_mib) * MIB / PAGE_BYTES)
    fields = [
        "R" if process.running else "S", process.ppid, process.pid, process.pid, 0, -1, flags,
        round(resident * 1.2), 0, 0, 0,
        int(process.user_s * CLK_PER_S), int(process.system_s * CLK_PER_S),
        int(process.children_s * 0.8 * CLK_PER_S), int(process.children_s * 0.2 * CLK_PER_S),
        20 + spec.nice, spec.nice, len(process.threads), 0, process.start_clk,
        resident * PAGE_BYTES * 3, resident, 18446744073709551615, 1, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0,
        0, 17, process.processor, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
    ]  # fmt: skip
    return f"{process.pid} ({spec.name[:15]}) {_joined(fields)}\n"


def process_status(process: ModelProcess, uid: int) -> str:
    """Return the lines of ``/proc/PID/status`` that are read."""
    ids = f"{uid}\t{uid}\t{uid}\t{uid}"
    return (
        f"Name:\t{process.spec.name[:15]}\nState:\tS (sleeping)\nTgid:\t{process.pid}\n"
        f"Pid:\t{process.pid}\nPPid:\t{process.ppid}\nUid:\t{ids}\nGid:\t{ids}\n"
        f"VmSwap:\t       0 kB\nThreads:\t{len(process.threads)}\n"
    )


def process_statm(process: ModelProcess) -> str:
    """Return ``/proc/PID/statm``."""
    private = round(process.spec.private_mib * MIB / PAGE_BYTES)
    shared = round(process.spec.shared_mib * MIB / PAGE_BYTES)
    return f"{(private + shared) * 3} {private + shared} {shared} 100 0 {private} 0\n"


def process_io(process: ModelProcess) -> str:
    """Return ``/proc/PID/io``."""
    read, written = round(process.read_bytes), round(process.write_bytes)
    return (
        f"rchar: {read * 2}\nwchar: {written}\nsyscr: {read // 4096}\nsyscw: {written // 4096}\n"
        f"read_bytes: {read}\nwrite_bytes: {written}\ncancelled_write_bytes: 0\n"
    )


def process_limits() -> str:
    """Return the lines of ``/proc/PID/limits`` that are read."""
    return (
        "Limit                     Soft Limit           Hard Limit           Units     \n"
        "Max open files            1024                 524288               files     \n"
    )


def schedstat(run_ns: float, delay_ns: float) -> str:
    """Return ``/proc/PID/schedstat`` of one thread."""
    return f"{round(run_ns)} {round(delay_ns)} {round(run_ns / 3e6)}\n"


def group_files(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the files of version 2 control groups, none of which has a quota."""
    yield "sys/fs/cgroup/cgroup.controllers", "cpu io memory pids\n"
    used: dict[str, float] = {}
    for process in model.processes:
        path = process.spec.cgroup
        used[path] = used.get(path, 0.0) + process.user_s + process.system_s
    for path, seconds in used.items():
        directory = f"sys/fs/cgroup{path}"
        yield f"{directory}/cpu.max", "max 100000\n"
        yield (
            f"{directory}/cpu.stat",
            (
                f"usage_usec {round(seconds * 1e6)}\nnr_periods 0\nnr_throttled 0\n"
                "throttled_usec 0\n"
            ),
        )


def cpuinfo(model: ModelComputer) -> str:
    """Return ``/proc/cpuinfo``."""
    machine = model.scenario.machine
    return "".join(
        f"processor\t: {number}\nmodel name\t: {machine.model}\n"
        f"cpu MHz\t\t: {processor.khz / 1000:.3f}\n\n"
        for number, processor in enumerate(model.processors)
    )


def _joined(values: list[int] | list[int | str]) -> str:
    return " ".join(map(str, values))
