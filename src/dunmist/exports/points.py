"""The figures of a capture as metrics that other programs know, each with its points in time.

Names, units and attributes are those of the OpenTelemetry semantic conventions for system, process
and hardware, units in UCUM; what they have no name for begins with ``dunmist.``. Times are the
patient's wall clock. A counter is what was added up since the first tick.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Literal, NamedTuple

import numpy as np

from dunmist.advice import Judged
from dunmist.diagnosis import LEVELS
from dunmist.series import Floats, Level, Process, Rate, Series, memory_breakdown

Kind = Literal["gauge", "counter"]
Value = str | int
NS_PER_S = 1_000_000_000
# processes that used less than this, and held less than this, tell nothing that anybody plots
CORES_LEAST, BYTES_LEAST = 0.005, 50e6
# kinds of CPU time as the convention calls them, by the kernel's words
MODES = {"user": "user", "nice": "nice", "system": "system", "idle": "idle", "iowait": "iowait",
         "irq": "interrupt", "softirq": "interrupt", "steal": "steal"}
HARDWARE = {"temperature": ("hw.temperature", "Cel"), "fan": ("hw.fan.speed", "rpm"),
            "power": ("hw.power", "W"), "energy": ("hw.power", "W"),
            "voltage": ("hw.voltage", "V")}


@dataclass(frozen=True, slots=True)
class Metric:
    """One series of points."""

    name: str
    unit: str
    kind: Kind
    about: str
    attributes: Mapping[str, Value]  # names that tell this series from others of the same metric
    at_ns: list[int]  # since 1970
    values: Floats  # shape (points,), all known
    start_ns: int  # when a counter began at zero


def resource_attributes(series: Series) -> dict[str, Value]:
    """Return the attributes of the computer and of the sampler."""
    machine = series.header.machine
    attributes: dict[str, Value] = {
        "host.name": machine.host or "unknown", "os.type": "linux",
        "os.description": machine.distribution or "Linux",
        "os.version": machine.kernel or "unknown",
        "telemetry.sdk.name": "dunmist", "telemetry.sdk.language": "python",
    }
    return attributes


def metrics_of(judged: Judged) -> Iterator[Metric]:
    """Yield every metric of a capture, those of the machine first."""
    clock = _Clock(judged.series)
    yield from _machine(judged, clock)
    yield from _devices(judged.series, clock)
    yield from _resources(judged, clock)
    for process in judged.series.processes.values():
        if (process.cores.known_mean() or 0.0) >= CORES_LEAST or (
            process.private_bytes.greatest() or 0.0
        ) >= BYTES_LEAST:
            yield from _process(process, clock)


class _Clock:
    """Turns levels and rates into metrics on the patient's wall clock."""

    def __init__(self, series: Series) -> None:
        self._line = series.line
        started = datetime.fromisoformat(series.header.started).timestamp()
        self._at_ns = [round((started + float(at_s)) * NS_PER_S) for at_s in series.line.at_s]

    def gauge(
        self, name: str, unit: str, about: str, figures: Level | Rate, **attributes: Value
    ) -> Iterator[Metric]:
        """Yield a figure at each tick, or at the end of each interval; nothing if unknown."""
        values = figures.values
        at_ns = self._at_ns if isinstance(figures, Level) else self._at_ns[1:]
        points = _Points("gauge", at_ns, values)
        yield from self._made(name, unit, about, attributes, points)

    def counter(
        self, name: str, unit: str, about: str, rate: Rate, **attributes: Value
    ) -> Iterator[Metric]:
        """Yield the running sum of a rate; a gap adds nothing."""
        if not rate.is_known:
            return
        total = np.cumsum(rate.known_or(0.0).values * self._line.interval_s)
        points = _Points("counter", self._at_ns[1:], total)
        yield from self._made(name, unit, about, attributes, points)

    def _made(
        self, name: str, unit: str, about: str, attributes: Mapping[str, Value], points: "_Points"
    ) -> Iterator[Metric]:
        known = np.flatnonzero(~np.isnan(points.values))
        if len(known):
            yield Metric(
                name, unit, points.kind, about,
                {word.replace("__", "."): value for word, value in attributes.items()},
                [points.at_ns[index] for index in known], points.values[known], self._at_ns[0],
            )


class _Points(NamedTuple):
    kind: Kind
    at_ns: list[int]
    values: Floats


def _machine(judged: Judged, clock: _Clock) -> Iterator[Metric]:
    machine = judged.series.machine
    for processor in machine.processors:
        for kind, mode in MODES.items():
            if kind in processor.shares and kind != "softirq":
                share = processor.shares[kind]
                if kind == "irq" and "softirq" in processor.shares:
                    share = share + processor.shares["softirq"]
                yield from clock.gauge(
                    "system.cpu.utilization", "1", "share of a logical CPU's time", share,
                    cpu__logical_number=processor.number, cpu__mode=mode,
                )
        if processor.clock_hz is not None:
            yield from clock.gauge(
                "system.cpu.frequency", "Hz", "clock of a logical CPU", processor.clock_hz,
                cpu__logical_number=processor.number,
            )
    for part, held in memory_breakdown(machine).items():
        yield from clock.gauge("system.memory.usage", "By", "memory in use, by what for", held,
                               system__memory__state=part)
    for subject, share in machine.stalled.items():
        yield from clock.gauge("dunmist.stalled", "1", "share of time in which tasks waited", share,
                               dunmist__resource=subject)
    yield from clock.gauge("system.linux.load.1m", "{thread}", "load average", machine.load_one)


def _devices(series: Series, clock: _Clock) -> Iterator[Metric]:
    devices = series.devices
    for disk in devices.physical_disks:
        for direction, rate in (("read", disk.read_bytes_per_s), ("write", disk.write_bytes_per_s)):
            yield from clock.counter("system.disk.io", "By", "bytes moved", rate,
                                     system__device=disk.name,
                                     disk__io__direction=direction)
        for direction, rate in (("read", disk.reads_per_s), ("write", disk.writes_per_s)):
            yield from clock.counter("system.disk.operations", "{operation}", "requests", rate,
                                     system__device=disk.name,
                                     disk__io__direction=direction)
        yield from clock.gauge("dunmist.disk.busy", "1", "share of time with a request", disk.busy,
                               system__device=disk.name)
    for link in devices.outward_links:
        for direction, rate in (
            ("receive", link.received_bytes_per_s), ("transmit", link.sent_bytes_per_s),
        ):
            yield from clock.counter("system.network.io", "By", "bytes moved", rate,
                                     network__interface__name=link.name,
                                     network__io__direction=direction)
        yield from clock.counter("system.network.errors", "{error}", "broken frames",
                                 link.errors_per_s, network__interface__name=link.name)
    for sensor in devices.sensors:
        if sensor.is_trusted and sensor.quantity in HARDWARE:
            name, unit = HARDWARE[sensor.quantity]
            yield from clock.gauge(name, unit, "reading of a sensor", sensor.shown,
                                   hw__id=sensor.sensor.path, hw__name=sensor.name)


def _resources(judged: Judged, clock: _Clock) -> Iterator[Metric]:
    for state in judged.diagnosis.resources:
        if state.trace is None:
            continue
        of = {"dunmist__resource": state.resource, "dunmist__name": state.name or ""}
        yield from clock.gauge("dunmist.resource.used", "1", "how full it was", state.trace.used,
                               **of)
        level = Rate(judged.series.line, state.trace.levels.astype(float))
        yield from clock.gauge("dunmist.resource.level", "1", f"0 to 3: {', '.join(LEVELS)}",
                               level, **of)


def _process(process: Process, clock: _Clock) -> Iterator[Metric]:
    of: dict[str, Value] = {
        "process__pid": process.pid, "process__executable__name": process.name,
        "process__owner": process.facts.user or "unknown",
    }
    yield from clock.gauge("process.cpu.utilization", "1", "logical CPUs in use",
                           process.cores, **of)
    yield from clock.gauge("process.memory.usage", "By", "resident set", process.rss_bytes, **of)
    for direction, rate in (
        ("read", process.read_bytes_per_s), ("write", process.write_bytes_per_s),
    ):
        yield from clock.counter("process.disk.io", "By", "bytes to and from storage", rate,
                                 **of, disk__io__direction=direction)
