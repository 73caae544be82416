"""Topic ``cores``: every logical CPU, and what interrupts it."""

from collections.abc import Iterator

import numpy as np

from dunmist.advice import Judged
from dunmist.series import LogicalProcessor, Series
from dunmist.tables.declared import CURVE_POINTS, Column, Row, Table, Width

TIME_KINDS = ("user", "nice", "system", "iowait", "irq", "softirq", "steal")
HZ_PER_KHZ = 1e3


def in_place(processors: list[LogicalProcessor]) -> list[LogicalProcessor]:
    """Return processors that share a core, and cores that share a package, together."""

    def place(logical_processor: LogicalProcessor) -> tuple[int, int, int]:
        package, core = (
            (logical_processor.place.package, logical_processor.place.core)
            if logical_processor.place
            else (None, None)
        )
        return (
            -1 if package is None else package,
            -1 if core is None else core,
            logical_processor.number,
        )

    return sorted(processors, key=place)


def _cores(judged: Judged) -> Iterator[Row]:
    for processor in in_place(judged.series.machine.processors):
        busy, clock, place = processor.busy, processor.clock_hz, processor.place
        yield {
            "cpu": processor.number,
            "core": place.core if place else None,
            "package": place.package if place else None,
            "busy_mean": busy.mean(),
            "busy_median": busy.median(),
            "busy_max": busy.greatest(),
            "busy_curve": busy.curve(CURVE_POINTS),
            **_busiest(judged.series, processor.number),
            **{f"{kind}_share": processor.share(kind).mean() for kind in TIME_KINDS},
            "clock_hz": clock.median() if clock else None,
            "clock_least_hz": clock.least() if clock else None,
            "max_clock_hz": processor.max_clock_hz,
            "base_clock_hz": place.base_khz * HZ_PER_KHZ if place and place.base_khz else None,
            "governor": place.governor if place else None,
            "capacity": place.capacity if place else None,
        }


def _busiest(series: Series, number: int) -> Row:
    """Return which application used most of a CPU, by where its processes were seen."""
    used = series.processor_cpu_s
    if number >= len(used) or not used[number].any():
        return {"busiest_application": None, "busiest_cores": None}
    first = int(np.argmax(used[number]))
    return {
        "busiest_application": series.applications[first].name,
        "busiest_cores": float(used[number][first]) / series.line.measured_s,
    }


CORES = Table(
    "logical CPUs",
    "those of a core together",
    (
        Column("cpu", "number", "number of the logical CPU"),
        Column("core", "number", "core that it belongs to"),
        Column("package", "number", "package that the core is in"),
        Column(
            "busy_mean",
            "share",
            "share of its time in which it did not idle, mean",
            answers=("least",),
        ),
        Column("busy_median", "share", "the same, median"),
        Column("busy_max", "share", "the same, most in an interval"),
        Column("busy_curve", "curve of shares", "the same over the capture"),
        Column(
            "busiest_application",
            "text",
            "who used most of it, by where its processes were seen at the ticks",
            Width(),
        ),
        Column("busiest_cores", "cores", "how much of it that one used"),
        *(
            Column(f"{kind}_share", "share", f"share of its time of the kind {kind}", title=kind)
            for kind in TIME_KINDS
        ),
        Column("clock_hz", "Hz", "clock, median"),
        Column("clock_least_hz", "Hz", "clock, least"),
        Column("max_clock_hz", "Hz", "greatest possible clock"),
        Column("base_clock_hz", "Hz", "clock that it holds with all cores busy"),
        Column("governor", "text", "what chooses its clock"),
        Column("capacity", "number", "strength of its kind of core; 1024 is the strongest"),
    ),
    _cores,
    shown=(
        "cpu",
        "core",
        "package",
        "busy_mean",
        "busy_max",
        "busiest_application",
        "busiest_cores",
        "clock_hz",
        "max_clock_hz",
        "user_share",
        "nice_share",
        "system_share",
        "iowait_share",
        "irq_share",
        "softirq_share",
        "steal_share",
        "governor",
    ),
    program_key="logical_processors",
)


def _interrupts(judged: Judged) -> Iterator[Row]:
    series = judged.series
    for kind, counts in (
        ("interrupt", series.devices.interrupts),
        ("soft interrupt", series.machine.soft_interrupts),
    ):
        for source, count in counts.items():
            if count:
                yield {
                    "source": source,
                    "kind": kind,
                    "times_per_s": count / series.line.measured_s,
                }


INTERRUPTS = Table(
    "interrupts",
    "the most frequent first; those that never came are left out",
    (
        Column("source", "text", "line and device of /proc/interrupts", Width(most=44)),
        Column("kind", "text", "interrupt or soft interrupt"),
        Column("times_per_s", "a second", "how often it came"),
    ),
    _interrupts,
    order=("times_per_s",),
)
