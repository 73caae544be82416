"""Topic ``cores``: every logical CPU, and what interrupts it."""

from collections.abc import Callable, Iterator
from typing import NamedTuple

import numpy as np

from dunmist.advice import Judged
from dunmist.computer import Processor
from dunmist.series import LogicalProcessor, Series
from dunmist.tables.declared import CURVE_POINTS, Column, Table, Width

TIME_KINDS = ("user", "nice", "system", "iowait", "irq", "softirq", "steal")
HZ_PER_KHZ = 1e3


def in_core_order(processors: list[LogicalProcessor]) -> list[LogicalProcessor]:
    """Return processors that share a core, and cores that share a package, together."""

    def core_key(logical_processor: LogicalProcessor) -> tuple[int, int, int]:
        package, core = (
            (logical_processor.hardware.package, logical_processor.hardware.core)
            if logical_processor.hardware
            else (None, None)
        )
        return (
            -1 if package is None else package,
            -1 if core is None else core,
            logical_processor.number,
        )

    return sorted(processors, key=core_key)


class OneCpu(NamedTuple):
    """One logical CPU with its busiest application, by the CPU of processes at the ticks."""

    cpu: LogicalProcessor
    hardware: Processor | None
    busiest_application: str | None
    busiest_cores: float | None


def _cores(judged: Judged) -> Iterator[OneCpu]:
    for cpu in in_core_order(judged.series.machine.processors):
        yield OneCpu(cpu, cpu.hardware, *_busiest(judged.series, cpu.number))


def _busiest(series: Series, number: int) -> tuple[str | None, float | None]:
    """Return the application that used most of a CPU, and its share."""
    used = series.processor_cpu_s
    if number >= len(used) or not used[number].any():
        return None, None
    first = int(np.argmax(used[number]))
    return series.applications[first].name, float(used[number][first]) / series.line.measured_s


def _kind_share(kind: str) -> Callable[[OneCpu], float]:
    return lambda row: row.cpu.share(kind).mean()


def _base_clock_hz(row: OneCpu) -> float | None:
    return row.hardware.base_khz * HZ_PER_KHZ if row.hardware and row.hardware.base_khz else None


CORES: Table[OneCpu] = Table(
    "logical CPUs",
    "those of a core together",
    (
        Column("cpu", "number", "number of the logical CPU", lambda row: row.cpu.number),
        Column("core", "number", "core that it belongs to",
            lambda row: row.hardware and row.hardware.core),
        Column("package", "number", "package that the core is in",
            lambda row: row.hardware and row.hardware.package),
        Column("busy_mean", "share", "share of its time in which it did not idle, mean",
            lambda row: row.cpu.busy.mean(), answers=("least",)),
        Column("busy_median", "share", "the same, median", lambda row: row.cpu.busy.median()),
        Column("busy_max", "share", "the same, most in an interval",
            lambda row: row.cpu.busy.greatest()),
        Column("busy_curve", "curve of shares", "the same over the capture",
            lambda row: row.cpu.busy.curve(CURVE_POINTS)),
        Column("busiest_application", "text",
            "application that used most of it, by the CPU of its processes", width=Width()),
        Column("busiest_cores", "cores", "how much of it that one used"),
        *(
            Column(f"{kind}_share", "share", f"share of its time of the kind {kind}",
                _kind_share(kind), title=kind)
            for kind in TIME_KINDS
        ),
        Column("clock_hz", "Hz", "clock, median",
            lambda row: row.cpu.clock_hz and row.cpu.clock_hz.median()),
        Column("clock_least_hz", "Hz", "clock, least",
            lambda row: row.cpu.clock_hz and row.cpu.clock_hz.least()),
        Column("max_clock_hz", "Hz", "greatest possible clock", lambda row: row.cpu.max_clock_hz),
        Column("base_clock_hz", "Hz", "clock that it holds with all cores busy", _base_clock_hz),
        Column("governor", "text", "what chooses its clock",
            lambda row: row.hardware and row.hardware.governor),
        Column("capacity", "number", "strength of its kind of core; 1024 is the strongest",
            lambda row: row.hardware and row.hardware.capacity),
    ),
    _cores,
    shown=("cpu", "core", "package", "busy_mean", "busy_max", "busiest_application",
        "busiest_cores", "clock_hz", "max_clock_hz", "user_share", "nice_share", "system_share",
        "iowait_share", "irq_share", "softirq_share", "steal_share", "governor"),
    program_key="logical_processors",
)


class Interrupt(NamedTuple):
    """One source of interrupts."""

    source: str
    kind: str
    times_per_s: float


def _interrupts(judged: Judged) -> Iterator[Interrupt]:
    series = judged.series
    for kind, counts in (
        ("interrupt", series.devices.interrupts),
        ("soft interrupt", series.machine.soft_interrupts),
    ):
        for source, count in counts.items():
            if count:
                yield Interrupt(source, kind, count / series.line.measured_s)


INTERRUPTS: Table[Interrupt] = Table(
    "interrupts",
    "the most frequent first; those that never came are left out",
    (
        Column("source", "text", "line and device of /proc/interrupts", width=Width(most=44)),
        Column("kind", "text", "interrupt or soft interrupt"),
        Column("times_per_s", "a second", "how often it came"),
    ),
    _interrupts,
    order=("times_per_s",),
)
