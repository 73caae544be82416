"""Logical processors: how each spends its time, its clock, and where it sits.

Sources: proc(5) and ``Documentation/filesystems/proc.rst`` 1.7 for ``/proc/stat``;
``Documentation/admin-guide/cputopology.rst`` for the map of cores and packages;
``Documentation/admin-guide/pm/cpufreq.rst`` for clocks. Times are in clock ticks (USER_HZ).
Guest time is counted in user time as well, so it must not be added to it.
"""

import re

import msgspec

from dunmist.computer.parsing import ParseError, counter_of, text_of
from dunmist.computer.root import Root

TIME_FIELDS = (
    "user", "nice", "system", "idle", "iowait", "irq", "softirq", "steal", "guest", "guest_nice",
)  # fmt: skip
CPUFREQ = "sys/devices/system/cpu/cpu{}/cpufreq/{}"


class ProcessorTimes(msgspec.Struct, frozen=True):
    """One reading of ``/proc/stat``.

    ``times_clk`` maps the number of each online processor to its counters in the order of
    ``TIME_FIELDS``; an older kernel has fewer of them. ``forks`` counts tasks created since boot.
    """

    times_clk: dict[int, list[int]]
    context_switches: int | None = None
    interrupts: int | None = None
    soft_interrupts: int | None = None
    forks: int | None = None
    runnable: int | None = None
    blocked: int | None = None
    boot_time_s: int | None = None


class Processor(msgspec.Struct, frozen=True):
    """Where one logical processor sits, and the bounds of its clock; None is 'not published'."""

    number: int
    core: int | None
    package: int | None
    min_khz: int | None
    max_khz: int | None


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
    """Return the record of ``/proc/stat``; raises ParseError when no processor is in it."""
    times: dict[int, list[int]] = {}
    scalars: dict[str, int] = {}
    for line in data.splitlines():
        fields = line.split(None, 11)
        if len(fields) < 2:
            continue
        key = fields[0]
        if key.startswith(b"cpu"):
            if key != b"cpu":
                number = counter_of(key[3:], "/proc/stat", "processor number")
                times[number] = [counter_of(f, "/proc/stat", text_of(key)) for f in fields[1:11]]
        elif key in _SCALARS:
            scalars[_SCALARS[key]] = counter_of(fields[1], "/proc/stat", text_of(key))
    if not times or any(len(counters) < 4 for counters in times.values()):
        raise ParseError("/proc/stat", "expected a line of counters for each processor", data)
    return ProcessorTimes(times_clk=times, **scalars)


def parse_khz(data: bytes) -> int:
    """Return a clock in kHz from a cpufreq file; raises ParseError."""
    return counter_of(data.strip(), "cpufreq", "clock")


def parse_number(data: bytes) -> int:
    """Return the number in a topology file; raises ParseError. Unknown is published as -1."""
    field = data.strip()
    return -1 if field == b"-1" else counter_of(field, "topology", "number")


def parse_model(data: bytes) -> tuple[str | None, float | None]:
    """Return the model name and the nominal clock in MHz of ``/proc/cpuinfo``'s first processor."""
    model = re.search(rb"^(?:model name|Model|cpu model)\s*:\s*(.+)$", data, re.M)
    mhz = re.search(rb"^cpu MHz\s*:\s*([0-9]{1,7}(?:\.[0-9]+)?)\s*$", data, re.M)
    return (
        text_of(model[1].strip()) if model else None,
        float(mhz[1]) if mhz else None,
    )


def read_processors(root: Root, numbers: list[int]) -> list[Processor]:
    """Return the place and the clock bounds of each logical processor."""
    found = []
    for number in numbers:
        topology = f"sys/devices/system/cpu/cpu{number}/topology"
        core = root.parse(f"{topology}/core_id", parse_number, "processor topology")
        package = root.parse(f"{topology}/physical_package_id", parse_number, "processor topology")
        bounds = [
            root.parse(CPUFREQ.format(number, name), parse_khz, "clock frequency")
            for name in ("cpuinfo_min_freq", "cpuinfo_max_freq")
        ]
        known = [None if place in (None, -1) else place for place in (core, package)]
        found.append(Processor(number, known[0], known[1], bounds[0], bounds[1]))
    return found


def read_clocks_khz(root: Root, numbers: list[int]) -> list[int | None]:
    """Return each processor's current clock in kHz, None where it is not published."""
    return [
        root.parse(
            CPUFREQ.format(number, "scaling_cur_freq"), parse_khz, "clock frequency", again=True
        )
        for number in numbers
    ]
