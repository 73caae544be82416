"""What a topic shows above its tables on a terminal: strips, bars and curves over the capture.

One function a topic, each given what was judged and the width, each yields lines. What is drawn
comes from ``series`` and ``diagnosis``; programs get the same figures as tables.
"""

from collections.abc import Callable, Iterator
from itertools import groupby

import numpy as np
from rich.text import Text

from dunmist.advice import cores_text, paging_sentence, percent, size_text, span_text
from dunmist.cli.judging import Judged
from dunmist.cli.strips import (
    PARTS,
    bar_cells,
    curve_text,
    level_text,
    shade_text,
    span_curve_text,
)
from dunmist.computer import Processor
from dunmist.diagnosis import Trace
from dunmist.harmless import cut_middle, harmless
from dunmist.series.curves import curve, peaks
from dunmist.series.memory_breakdown import memory_breakdown
from dunmist.series.rates import Floats
from dunmist.series.sensors import SensorSeries, energy_watts, processor_sensor

# legible on a light and on a dark background; the marks tell the levels apart without colour
LEVEL_STYLES = ("dim", "dark_cyan", "dark_orange3", "bold red")
STRIP_MOST = 100
CURVE_LEAST, CURVE_MOST = 8, 24
NAME_WIDTH = 30
QUANTITIES = ("temperature", "fan", "power", "energy")
UNITS = {"temperature": "°C", "fan": "turns/min", "power": "W", "energy": "W"}

Lines = Iterator[Text]


def drawn(topic: str, judged: Judged, width: int) -> Lines:
    """Yield the picture of a topic, nothing for a topic that has none."""
    draw = _DRAWERS.get(topic)
    return draw(judged, width) if draw else iter(())


def _cores(judged: Judged, width: int) -> Lines:
    series = judged.series
    machine = series.machine
    places = {one.number: one for one in series.header.machine.processors}
    points = min(STRIP_MOST, width - 38)
    yield _axis("each logical processor, the darker the busier", judged, points)
    order = sorted(machine.numbers, key=lambda number: _place(places.get(number)))
    for place, numbers in groupby(order, key=lambda number: _place(places.get(number))[:2]):
        for position, number in enumerate(numbers):
            column = machine.numbers.index(number)
            busy = machine.busy[:, column]
            label = f"package {place[0]} core {place[1]}" if not position and place[1] >= 0 else ""
            clock = "" if machine.clocks_hz is None else _clock(machine.clocks_hz[:, column])
            yield Text(
                f"{label:<17} cpu{number:<3} {shade_text(_stretched(busy, points))} "
                f"{percent(float(np.nanmean(busy))):>5}{clock}"
            )
    yield from _throttle_marks(judged, points)


def _place(place: Processor | None) -> tuple[int, int, int]:
    if place is None:
        return (-1, -1, -1)
    package, core = (-1 if one is None else one for one in (place.package, place.core))
    return (package, core, place.number)


def _clock(clocks_hz: Floats) -> str:
    return "" if np.isnan(clocks_hz).all() else f"  {np.nanmedian(clocks_hz) / 1e9:.1f} GHz"


def _throttle_marks(judged: Judged, points: int) -> Lines:
    throttled = judged.series.devices.throttled
    for kind, counts in throttled.items():
        if np.nansum(counts) > 0:
            marks = "".join("^" if value else " " for value in _stretched(counts, points, peaks))
            times = int(np.nansum(counts))
            yield Text(f"{'heat cut the clock':<24} {marks} {times} times ({kind})", "bold")


def _memory(judged: Judged, width: int) -> Lines:
    parts = memory_breakdown(judged.series.machine)
    sizes = {name: float(held[-1]) for name, held in parts.items() if held[-1] > 0}
    total = sum(sizes.values())
    cells = bar_cells(list(sizes.values()), min(STRIP_MOST, width - 2))
    marks = dict(zip(sizes, PARTS, strict=False))
    bar = "".join(marks.get(name, "?") * count for name, count in zip(sizes, cells, strict=True))
    yield Text(f"{size_text(total)} that the kernel manages, at the end of the capture")
    yield Text(f"[{bar}]")
    name_width = max(map(len, sizes))
    points = max(CURVE_LEAST, min(CURVE_MOST, width - name_width - 41))
    for name, size in sizes.items():
        share = percent(size / total)
        change = float(parts[name][-1] - parts[name][0])
        moved = (
            f"  {'+' if change > 0 else '-'}{size_text(abs(change))}" if abs(change) >= 1 else ""
        )
        line = f" {marks.get(name, '?')} {name:<{name_width}} {size_text(size):>10} {share:>11}"
        yield Text(f"{line}  {span_curve_text(curve(parts[name], points))}{moved}")
    yield Text("")
    yield Text(f"paging: {paging_sentence(judged.diagnosis)}")


def _heat(judged: Judged, width: int) -> Lines:
    series = judged.series
    points = min(STRIP_MOST, width - NAME_WIDTH - 28)
    chosen = processor_sensor(series.devices.sensors)
    yield _axis("sensors and what drives them, each between its least and greatest", judged, points)
    for one in series.devices.sensors:
        if one.is_trusted and one.quantity in QUANTITIES:
            values = _values(one, series.machine.interval_s)
            mark = "*" if chosen and one.name == chosen.name else " "
            yield _span_line(f"{mark}{one.name}", values, UNITS[one.quantity], points)
    if chosen:
        yield Text(f"* taken for the processor: {harmless(chosen.why)}", "dim")
    machine = series.machine
    if machine.mean_clock_hz is not None:
        yield _span_line(" clock, mean", machine.mean_clock_hz / 1e6, "MHz", points)
    yield _span_line(" processors in use", _at_ticks(machine.busy_cores), "cores", points)
    for kind, counts in series.devices.throttled.items():
        yield _span_line(f" heat cut the clock, {kind}", _at_ticks(counts), "times", points)


def _values(one: SensorSeries, interval_s: Floats) -> Floats:
    if one.quantity == "energy":
        return _at_ticks(energy_watts(one, interval_s))
    return one.values


def _at_ticks(of_intervals: Floats) -> Floats:
    """Return an interval's figure at the tick that ends it, so that all strips have one axis."""
    return np.concatenate([[np.nan], of_intervals])


def _span_line(name: str, values: Floats, unit: str, points: int) -> Text:
    if np.isnan(values).all():
        return Text(f"{harmless(name):<{NAME_WIDTH}.{NAME_WIDTH}} no reading")
    least, most = float(np.nanmin(values)), float(np.nanmax(values))
    digits = 2 if unit == "cores" else 1 if most < 20 else 0
    strip = span_curve_text(_stretched(values, points))
    return Text(
        f"{harmless(name):<{NAME_WIDTH}.{NAME_WIDTH}} {strip} "
        f"{least:.{digits}f} to {most:.{digits}f} {unit}"
    )


def _timeline(judged: Judged, width: int) -> Lines:
    points = min(STRIP_MOST, width - 42)
    yield _axis("levels (· calm, ─ busy, ▒ strained, █ choked), and how full", judged, points)
    for state in judged.diagnosis.resources:
        if state.trace is None:
            continue
        name = " ".join(filter(None, (state.resource, state.name)))
        line = Text(f"{cut_middle(harmless(name), 18):<18} ")
        line.append(_levels(state.trace, points))
        line.append(f" {state.level}, {percent(state.used)} used")
        yield line
        yield Text(f"{'':<18} {curve_text(_stretched(state.trace.used, points), 1.0)}", "dim")
    sampled = judged.series
    if sampled.missed or sampled.asleep_s:
        yield Text(f"{sampled.missed} ticks missed, asleep for {sampled.asleep_s:g} s", "bold")


def _levels(trace: Trace, points: int) -> Text:
    levels = [int(value or 0) for value in _stretched(trace.levels.astype(float), points, peaks)]
    line = Text()
    for level, run in groupby(levels):
        line.append(level_text(list(run)), LEVEL_STYLES[level])
    return line


def _processes(judged: Judged, width: int) -> Lines:
    del width
    machine = judged.series.machine
    online = float(np.median(machine.online))
    used = cores_text(float(np.average(machine.busy_cores, weights=machine.interval_s)), online)
    yield Text(f"the whole computer used {used}; cores are logical processors in use")
    if judged.diagnosis.limiting:
        yield Text(harmless(judged.triage.verdict.headline), "bold")


def _stretched(
    values: Floats, points: int, shorten: Callable[[Floats, int], list[float | None]] = curve
) -> list[float | None]:
    """Return at most so many points; a short series gets several marks for each value."""
    times = max(1, points // max(1, len(values)))
    return [value for value in shorten(values, points) for _ in range(times)]


def _axis(title: str, judged: Judged, points: int) -> Text:
    duration_s = judged.series.duration_s
    each_s = duration_s / len(_stretched(judged.series.machine.interval_s, points))
    return Text(
        f"{title}; {span_text(duration_s)} from left to right, {span_text(each_s)} a mark", "dim"
    )


_DRAWERS: dict[str, Callable[[Judged, int], Lines]] = {
    "cores": _cores,
    "memory": _memory,
    "heat": _heat,
    "timeline": _timeline,
    "processes": _processes,
}
