"""The files of one process of a model computer, in the kernel's formats."""

from collections.abc import Iterator

from dunmist.simulation.model import ModelComputer
from dunmist.simulation.paging import MIB
from dunmist.simulation.processes import CLK_PER_S, ModelProcess

# include/linux/sched.h
PF_KTHREAD, PF_FORKNOEXEC = 0x00200000, 0x00000040
PAGE_BYTES = 4096
# of a task that waits until the journal has a transaction on the disk (fs/jbd2/journal.c)
STACK = (
    "[<0>] jbd2_log_wait_commit+0x9c/0x130\n[<0>] ext4_sync_file+0x1c0/0x350\n"
    "[<0>] do_fsync+0x38/0x70\n[<0>] do_syscall_64+0x5d/0xc0\n"
    "[<0>] entry_SYSCALL_64_after_hwframe+0x64/0xce\n"
)
# of smaller ones nobody asks
ROLLED_UP_PAGES = 256 * 256
# arch/x86/entry/syscalls/syscall_64.tbl
CALLS = {"read": 0, "write": 1, "fsync": 74, "fdatasync": 75}


def executable(process: ModelProcess) -> str:
    """Return where the program's file lies."""
    spec = process.spec
    return f"{spec.directory}/{spec.shown_as or spec.name}"


def still_files(process: ModelProcess, uid: int) -> Iterator[tuple[str, str]]:
    """Yield the files that do not change, by their names below the process's directory."""
    spec = process.spec
    ids = f"{uid}\t{uid}\t{uid}\t{uid}"
    yield (
        "status",
        (
            f"Name:\t{spec.name[:15]}\nState:\tS (sleeping)\nTgid:\t{process.pid}\n"
            f"Pid:\t{process.pid}\nPPid:\t{process.ppid}\nUid:\t{ids}\nGid:\t{ids}\n"
            f"VmSwap:\t       0 kB\nThreads:\t{spec.threads}\n"
            + (f"Cpus_allowed_list:\t0-{spec.cpus_most - 1}\n" if spec.cpus_most else "")
        ),
    )
    yield "cgroup", f"0::{spec.cgroup}\n"
    yield (
        "limits",
        (
            "Limit                     Soft Limit           Hard Limit           Units     \n"
            "Max open files            1024                 524288               files     \n"
        ),
    )
    yield "loginuid", str(uid if 1000 <= uid < 60000 else 2**32 - 1)
    no_arguments = spec.kernel or process.defunct
    arguments = [] if no_arguments else [executable(process), *spec.arguments]
    yield "cmdline", "".join(f"{argument}\0" for argument in arguments)
    for thread in range(spec.threads):
        name = spec.thread_names[thread] if thread < len(spec.thread_names) else spec.name
        yield f"task/{process.pid + thread}/comm", f"{name[:15]}\n"


def moving_files(model: ModelComputer, process: ModelProcess) -> Iterator[tuple[str, str]]:
    """Yield the files that change, by their names below the process's directory."""
    index = process.index
    figures = {name: float(values[index]) for name, values in model.processes.figures.items()}
    # everybody has a part of what does not fit in swap
    figures["private_mib"] *= model.memory.resident_share
    yield "stat", _stat(process, figures)
    private = round(figures["private_mib"] * MIB / PAGE_BYTES)
    shared = 0 if process.spec.kernel else round(process.spec.shared_mib * MIB / PAGE_BYTES)
    yield "statm", f"{(private + shared) * 3} {private + shared} {shared} 100 0 {private} 0\n"
    if private >= ROLLED_UP_PAGES:
        yield "smaps_rollup", _rollup(private, shared)
    yield "wchan", _waits_in(process)
    yield "syscall", _system_call(process)
    if process.state == "D" and process.spec.call:
        yield "stack", STACK
    for thread, (run_ns, delay_ns) in enumerate(zip(process.run_ns, process.delay_ns, strict=True)):
        text = f"{round(run_ns)} {round(delay_ns)} {round(run_ns / 3e6)}\n"
        if not thread:
            yield "schedstat", text
        yield f"task/{process.pid + thread}/schedstat", text
    if process.spec.graphics_share:
        used_ns = round(figures["graphics_s"] * 1e9)
        yield (
            "fdinfo/0",
            (
                f"pos:\t0\ndrm-driver:\tskerrow\ndrm-client-id:\t{process.index}\n"
                f"drm-engine-render:\t{used_ns} ns\n"
            ),
        )
    yield from _positions(process, figures)
    if not process.spec.kernel:
        read, written = round(figures["read_bytes"]), round(figures["write_bytes"])
        yield (
            "io",
            (
                f"rchar: {read}\nwchar: {written}\nsyscr: {read // 4096}\n"
                f"syscw: {written // 4096}\n"
                f"read_bytes: {read}\nwrite_bytes: {written}\ncancelled_write_bytes: 0\n"
            ),
        )


def _rollup(private: int, shared: int) -> str:
    """Return the exact memory: data are its own, and two programs share its files."""
    kib = PAGE_BYTES // 1024
    figures = {
        "Rss": private + shared,
        "Pss": private + shared // 2,
        "Pss_Anon": private,
        "Pss_File": shared // 2,
        "Pss_Shmem": 0,
        "Private_Clean": 0,
        "Private_Dirty": private,
        "Anonymous": private,
        "SwapPss": 0,
        "Locked": 0,
    }
    lines = (f"{f'{name}:':<16}{pages * kib:>8} kB\n" for name, pages in figures.items())
    return f"55d000000000-7ffd00000000 ---p 00000000 00:00 0    [rollup]\n{''.join(lines)}"


def _positions(process: ModelProcess, figures: dict[str, float]) -> Iterator[tuple[str, str]]:
    """Yield the position in each open file."""
    spec = process.spec
    first = 1 if spec.graphics_share else 0
    moved = [(share * figures["read_bytes"], "0100000") for share in spec.reads.values()]
    moved += [(share * figures["write_bytes"], "0102001") for share in spec.writes.values()]
    for number, (position, flags) in enumerate(moved, start=first):
        yield f"fdinfo/{number}", f"pos:\t{round(position)}\nflags:\t{flags}\nmnt_id:\t27\n"


def _system_call(process: ModelProcess) -> str:
    """Return the call that it waits in, on the first of the files that it works on."""
    spec = process.spec
    if process.state != "D" or not spec.call:
        return "running\n" if process.state == "R" else "-1 0x7ffc00000000 0x7f0000000000\n"
    first = 1 if spec.graphics_share else 0
    descriptor = first + (len(spec.reads) if spec.writes else 0)
    return f"{CALLS[spec.call]} {descriptor:#x}{' 0x0' * 5} 0x7ffc00000000 0x7f0000000000\n"


def _waits_in(process: ModelProcess) -> str:
    if process.spec.kernel or process.state == "R":
        return "0"
    if process.state == "D" and not process.spec.state:
        return "folio_wait_bit_common"
    return process.spec.waits_in


def _stat(process: ModelProcess, figures: dict[str, float]) -> str:
    spec = process.spec
    flags = PF_KTHREAD | PF_FORKNOEXEC if spec.kernel else 0x00400000
    resident = 0
    if not spec.kernel and not process.defunct:
        resident = round((figures["private_mib"] + spec.shared_mib) * MIB / PAGE_BYTES)
    children = figures["children_s"] * CLK_PER_S
    fields = [
        process.state, process.ppid, process.pid, process.pid, 0, -1, flags,
        round(figures["minor_faults"]), 0, round(figures["major_faults"]), 0,
        int(figures["user_s"] * CLK_PER_S), int(figures["system_s"] * CLK_PER_S),
        int(children * 0.8), int(children * 0.2), 20 + spec.nice, spec.nice, spec.threads, 0,
        process.start_clk, resident * PAGE_BYTES * 3, resident, 18446744073709551615, 1, 1, 0, 0, 0,
        0, 0, 0, 0, 0, 0, 0, 17, process.processor, 0, 0,
        round(figures["io_delay_s"] * CLK_PER_S), 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
    ]
    return f"{process.pid} ({spec.name[:15]}) {' '.join(map(str, fields))}\n"
