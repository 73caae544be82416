"""Read names, kernel, distribution, processors and boot of the computer.

Sources: proc_sys_kernel(5) for the host and boot identity, proc_version(5), os-release(5).
Everything is read below the root, so that a model or a copy of another computer describes itself.
"""

import os
import re
from collections.abc import Callable

import msgspec

from dunmist.computer.cpus import Processor, parse_model, parse_stat, read_processors
from dunmist.computer.memory import parse_meminfo
from dunmist.computer.parsing import ParseError, text_of
from dunmist.computer.root import Parsed, Root
from dunmist.errors import UnreadableComputer

_OS_RELEASE = re.compile(rb"^PRETTY_NAME=(?:\"([^\"\n]*)\"|'([^'\n]*)'|(\S*))$", re.M)


class Machine(msgspec.Struct, frozen=True):
    """A computer as it describes itself; None is 'not published'."""

    host: str | None
    boot_id: str | None  # new at each start (random(4))
    kernel: str | None
    distribution: str | None
    model: str | None
    nominal_mhz: float | None  # from the model name
    processors: list[Processor]
    memory_bytes: int  # MemTotal, without what the kernel took at boot
    boot_time_s: int | None  # since 1970, by btime of /proc/stat
    clock_ticks_per_s: int  # USER_HZ, the unit of CPU times in /proc
    page_bytes: int


def parse_line(data: bytes) -> str:
    """Return the one line of a file; raises ParseError when it is empty."""
    line = data.strip()
    if not line:
        raise ParseError("/proc/sys/kernel", "expected a line", data)
    return text_of(line.splitlines()[0])


def parse_distribution(data: bytes) -> str:
    """Return PRETTY_NAME of os-release(5); raises ParseError."""
    match = _OS_RELEASE.search(data)
    if not match:
        raise ParseError("/etc/os-release", "expected PRETTY_NAME", data)
    return text_of(match[1] or match[2] or match[3] or b"")


def read_machine(root: Root) -> Machine:
    """Return the facts of the computer; raises UnreadableComputer if it has no proc tree."""
    stat = _needed(root, "proc/stat", parse_stat)
    memory = _needed(root, "proc/meminfo", parse_meminfo)
    model, mhz = root.parse("proc/cpuinfo", parse_model, "processor model") or (None, None)
    return Machine(
        host=root.parse("proc/sys/kernel/hostname", parse_line, "host name"),
        boot_id=root.parse("proc/sys/kernel/random/boot_id", parse_line, "boot identity"),
        kernel=root.parse("proc/sys/kernel/osrelease", parse_line, "kernel version"),
        distribution=root.parse("etc/os-release", parse_distribution, "distribution"),
        model=model,
        nominal_mhz=mhz,
        processors=read_processors(root, sorted(stat.times_clk)),
        memory_bytes=memory["MemTotal"] * 1024,
        boot_time_s=stat.boot_time_s,
        clock_ticks_per_s=os.sysconf("SC_CLK_TCK"),
        page_bytes=os.sysconf("SC_PAGE_SIZE"),
    )


def _needed(root: Root, name: str, parser: Callable[[bytes], Parsed]) -> Parsed:
    try:
        return parser(root.read(name))
    except OSError as error:
        raise UnreadableComputer(
            f"{root.full(name)}: {error.strerror}, so there is no computer to sample below "
            f"{root.path}; give --root a directory that holds proc, sys and etc"
        ) from error
    except ParseError as error:
        raise UnreadableComputer(
            f"{root.full(name)}: not as the kernel writes it ({error}); "
            f"give --root a directory that holds proc, sys and etc"
        ) from error
