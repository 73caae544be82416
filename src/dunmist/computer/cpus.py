"""Logical CPUs: how each spends its time, its clock, and where it sits.

Sources: proc(5) and ``Documentation/filesystems/proc.rst`` 1.7 for ``/proc/stat``;
``Documentation/admin-guide/cputopology.rst`` for the map of cores and packages;
``Documentation/admin-guide/pm/cpufreq.rst`` for clocks. Times are in clock ticks (USER_HZ).
Guest time is counted in user time as well, so it must not be added to it.

Interrupts by source: proc_interrupts(5); the counts of all CPUs are added up, because which
processor serves a source changes at any time. How often heat cut the clock:
``Documentation/ABI/testing/sysfs-devices-system-cpu``; ``thermal_throttle`` (x86) counts for each
core, and for its package, which every CPU of the package repeats.
"""

import re

import msgspec

from dunmist.computer.parsing import (
    Counter,
    ParseError,
    counter_of,
    lines_of,
    parse_counter,
    parse_number,
    parse_text,
    text_of,
)
from dunmist.computer.root import Root

TIME_FIELDS = (
    "user",
    "nice",
    "system",
    "idle",
    "iowait",
    "irq",
    "softirq",
    "steal",
    "guest",
    "guest_nice",
)
# include/linux/interrupt.h
SOFT_INTERRUPTS = (
    "high",
    "timer",
    "network send",
    "network receive",
    "block",
    "poll",
    "tasklet",
    "scheduler",
    "high-resolution timer",
    "read-copy update",
)
CPUFREQ = "sys/devices/system/cpu/cpu{}/cpufreq/{}"


class ProcessorTimes(msgspec.Struct, frozen=True):
    """One reading of /proc/stat (proc_stat(5))."""

    # by number of each online CPU, in the order of TIME_FIELDS; old kernels have fewer
    times_clk: dict[int, list[int]]
    context_switches: int | None = None
    interrupts: int | None = None
    soft_interrupts: int | None = None
    soft_interrupts_by_kind: list[int] = []  # in the order of SOFT_INTERRUPTS
    forks: int | None = None  # tasks created since boot, threads included
    runnable: int | None = None
    blocked: int | None = None  # tasks that wait for a disk
    boot_time_s: int | None = None


class Processor(msgspec.Struct, frozen=True):
    """Position of one logical CPU, and its clock; None is 'not published'."""

    number: int
    core: int | None  # physical core; two threads share one
    package: int | None  # socket
    min_khz: int | None
    max_khz: int | None  # with boost, where the driver counts that
    base_khz: int | None = None  # guaranteed without boost
    governor: str | None = None
    capacity: int | None = None  # against 1024 of the strongest, where cores are of several kinds


_SCALARS = {
    b"ctxt": "context_switches",
    b"intr": "interrupts",
    b"softirq": "soft_interrupts",
    b"processes": "forks",
    b"procs_running": "runnable",
    b"procs_blocked": "blocked",
    b"btime": "boot_time_s",
}


def parse_stat(data: bytes) -> ProcessorTimes:
    """Return the record of ``/proc/stat``; raises ParseError when no CPU is in it."""
    times: dict[int, list[int]] = {}
    scalars: dict[str, int] = {}
    kinds: list[int] = []
    for line in lines_of(data):
        # the line of interrupts has thousands of fields: what is cut off here need not be split
        fields = line.split(None, 11)
        if len(fields) < 2:
            continue
        key = fields[0]
        if key.startswith(b"cpu"):
            # the first line is the sum of the others, and rounds on its own
            if key != b"cpu":
                number = counter_of(key[3:], "/proc/stat", "processor number")
                times[number] = [counter_of(f, "/proc/stat", text_of(key)) for f in fields[1:11]]
        elif key in _SCALARS:
            scalars[_SCALARS[key]] = counter_of(fields[1], "/proc/stat", text_of(key))
            if key == b"softirq":
                kinds = [counter_of(f, "/proc/stat", "softirq") for f in fields[2:]]
    # user, nice, system and idle are there since Linux 1.0
    if not times or any(len(counters) < 4 for counters in times.values()):
        raise ParseError("/proc/stat", "expected a line of counters for each CPU", data)
    return ProcessorTimes(times_clk=times, soft_interrupts_by_kind=kinds, **scalars)


def parse_khz(data: bytes) -> int:
    """Return a clock in kHz from a cpufreq file; raises ParseError."""
    return counter_of(data.strip(), "cpufreq", "clock")


def parse_model(data: bytes) -> tuple[str | None, float | None]:
    """Return the model name and the nominal clock in MHz of ``/proc/cpuinfo``'s first processor."""
    # ARM writes Model, MIPS and others cpu model
    model = re.search(rb"^(?:model name|Model|cpu model)\s*:\s*(.+)$", data, re.M)
    mhz = re.search(rb"^cpu MHz\s*:\s*([0-9]{1,7}(?:\.[0-9]+)?)\s*$", data, re.M)
    return (text_of(model[1].strip()) if model else None, float(mhz[1]) if mhz else None)


def parse_processor_list(data: bytes) -> list[int]:
    """Return the numbers of a list such as ``0-3,8``; raises ParseError."""
    numbers: list[int] = []
    for part in data.strip().split(b","):
        match = re.match(rb"(\d{1,5})(?:-(\d{1,5}))?\Z", part)
        if part and not match:
            raise ParseError("processor list", "expected ranges", data)
        if match:
            numbers.extend(range(int(match[1]), int(match[2] or match[1]) + 1))
    return numbers


def read_offline(root: Root) -> list[int]:
    """Return the CPUs that are present but switched off."""
    offline = root.parse(
        "sys/devices/system/cpu/offline",
        parse_processor_list,
        "offline processors",
        may_be_absent=True,
    )
    return offline or []


def read_processors(root: Root, numbers: list[int]) -> list[Processor]:
    """Return the topology and the clock bounds of each logical CPU."""
    return [_read_processor(root, number) for number in numbers]


def _read_processor(root: Root, number: int) -> Processor:
    directory = f"sys/devices/system/cpu/cpu{number}"

    def topology_number(name: str) -> int | None:
        value = root.parse(f"{directory}/topology/{name}", parse_number, "processor topology")
        # -1 is how the kernel says that the firmware did not tell
        return None if value == -1 else value

    def clock(name: str, *, may_be_absent: bool = False) -> int | None:
        return root.parse(
            CPUFREQ.format(number, name), parse_khz, "clock frequency", may_be_absent=may_be_absent
        )

    return Processor(
        number,
        topology_number("core_id"),
        topology_number("physical_package_id"),
        clock("cpuinfo_min_freq"),
        clock("cpuinfo_max_freq"),
        clock("base_frequency", may_be_absent=True),
        root.parse(
            CPUFREQ.format(number, "scaling_governor"),
            parse_text,
            "clock governor",
            may_be_absent=True,
        ),
        root.parse(f"{directory}/cpu_capacity", parse_number, "capacity", may_be_absent=True),
    )


def read_clocks_khz(root: Root, numbers: list[int]) -> list[int | None]:
    """Return each CPU's current clock in kHz, None if it is not published."""
    return [
        root.parse(
            CPUFREQ.format(number, "scaling_cur_freq"), parse_khz, "clock frequency", again=True
        )
        for number in numbers
    ]


def parse_interrupts(data: bytes) -> dict[str, int]:
    """Return the count of each interrupt source since boot; raises ParseError."""
    lines = lines_of(data)
    processors = len(lines[0].split()) if lines else 0
    if not processors or not lines[0].split()[0].startswith(b"CPU"):
        raise ParseError("/proc/interrupts", "expected a column for each CPU", data)
    totals: dict[str, int] = {}
    for line in lines[1:]:
        name, colon, rest = line.partition(b":")
        fields = rest.split()
        counts = []
        # a source of one counter (ERR, MIS) has fewer columns than processors
        for field in fields[:processors]:
            if not field.isdigit() or len(field) > INTERRUPT_DIGITS:
                break
            counts.append(int(field))
        if not colon or not counts:
            continue
        about = text_of(b" ".join(fields[len(counts) :]))
        totals[f"{text_of(name.strip())} {about}".strip()] = sum(counts)
    return totals


# the kernel counts them in 32 bits a processor
INTERRUPT_DIGITS = 10
THROTTLING = "throttle counts"
_THROTTLE_FILE = "sys/devices/system/cpu/cpu{}/thermal_throttle/{}_throttle_count"


class ThrottleSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Throttle counts of one logical CPU's core and package since boot."""

    processor: Counter
    core: Counter | None
    package: Counter | None


def find_throttling(root: Root, processors: list[int]) -> list[int]:
    """Return the CPUs that publish throttle counts; notes when none does."""
    throttling = [
        number for number in processors if root.exists(_THROTTLE_FILE.format(number, "core"))
    ]
    if not throttling:
        root.note(THROTTLING, "absent")
    return throttling


def read_throttling(root: Root, processors: list[int]) -> list[ThrottleSample]:
    """Return the counts of each CPU that is still online."""
    samples = []
    for number in processors:
        core, package = (
            root.parse(
                _THROTTLE_FILE.format(number, part),
                parse_counter,
                THROTTLING,
                again=True,
                may_be_absent=True,
            )
            for part in ("core", "package")
        )
        if core is not None or package is not None:
            samples.append(ThrottleSample(number, core, package))
    return samples
