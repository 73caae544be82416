"""Draw what a topic shows above its tables on a terminal: strips, bars and curves.

One function a topic, each given what was judged and the width, each yields lines. What is drawn
comes from ``series`` and ``diagnosis``; programs get the same figures as tables.
"""

from collections.abc import Callable, Iterator
from itertools import groupby

from rich.text import Text

from dunmist.advice import Judged, cores_text, paging_sentence, percent, size_text, span_text
from dunmist.diagnosis import LEVELS, Trace
from dunmist.harmless import cut_middle, harmless
from dunmist.reports import LEVEL_LOOKS
from dunmist.series import Level, LogicalProcessor, Rate
from dunmist.sparklines import PARTS, bar_cells, curve_text, level_text, shade_text
from dunmist.tables import (
    INSTALLED_MEMORY,
    QUANTITY_UNITS,
    fill,
    heat_scale,
    in_core_order,
    share_curve,
)

# wider curves are no easier to read
STRIP_MOST = 100
# together with the curve they fill 80 columns
NAME_WIDTH, RESOURCE_WIDTH = 30, 18
QUANTITIES = ("temperature", "fan", "power", "energy")
HZ_PER_MHZ, HZ_PER_GHZ = 1e6, 1e9

Lines = Iterator[Text]
Values = list[float | None]


def drawn(topic: str, judged: Judged, width: int) -> Lines:
    """Yield the picture of a topic, nothing for a topic that has none."""
    draw = _DRAWERS.get(topic)
    return draw(judged, width) if draw else iter(())


def _cores(judged: Judged, width: int) -> Lines:
    points = min(STRIP_MOST, width - 38)
    yield _axis("each logical CPU, the darker the busier", judged, points)
    processors = in_core_order(judged.series.machine.processors)
    for core_key, group in groupby(processors, key=_core_of):
        for position, core in enumerate(group):
            named = not position and core_key is not None
            label = f"package {core_key[0]} core {core_key[1]}" if named and core_key else ""
            clock = core.clock_hz.median() if core.clock_hz else None
            ghz = "" if clock is None else f"  {clock / HZ_PER_GHZ:.1f} GHz"
            strip = shade_text(_stretched(core.busy.curve(points), points))
            yield Text(
                f"{label:<17} cpu{core.number:<3} {strip} {percent(core.busy.mean()):>5}{ghz}"
            )
    yield from _throttle_marks(judged, points)


def _core_of(logical_processor: LogicalProcessor) -> tuple[int, int] | None:
    """Return the package and core of a CPU, None if they are not known."""
    if logical_processor.hardware is None or logical_processor.hardware.core is None:
        return None
    return (
        -1 if logical_processor.hardware.package is None else logical_processor.hardware.package,
        logical_processor.hardware.core,
    )


def _throttle_marks(judged: Judged, points: int) -> Lines:
    for kind, rate in judged.series.devices.throttled.items():
        times = round(rate.total())
        if times:
            peaks = _stretched(rate.peaks(points), points)
            marks = "".join("^" if value else " " for value in peaks)
            yield Text(f"{'heat cut the clock':<24} {marks} {times} times ({kind})", "bold")


def _memory(judged: Judged, width: int) -> Lines:
    *parts, whole = [row for row in fill(INSTALLED_MEMORY, judged).rows if row["bytes"]]
    cells = bar_cells([row["bytes"] for row in parts], min(STRIP_MOST, width - 2))
    marks = dict(zip((row["part"] for row in parts), PARTS, strict=False))
    bar = "".join(
        marks.get(row["part"], "?") * count for row, count in zip(parts, cells, strict=True)
    )
    yield Text(f"{size_text(whole['bytes'])} installed, at the end of the capture")
    yield Text(f"[{bar}]")
    name_width = max(len(row["part"]) for row in parts)
    for row in parts:
        curve = row["share_curve"] if isinstance(row["share_curve"], list) else []
        change = row["change_bytes"]
        moved = (
            f"  {'+' if change > 0 else '-'}{size_text(abs(change))}" if abs(change) >= 1 else ""
        )
        line = (
            f" {marks.get(row['part'], '?')} {row['part']:<{name_width}} "
            f"{size_text(row['bytes']):>10} {percent(row['share']):>11}"
        )
        yield Text(f"{line}  {curve_text(curve, 1.0)}{moved}")
    yield Text("")
    yield Text(f"paging: {paging_sentence(judged.diagnosis)}")


def _heat(judged: Judged, width: int) -> Lines:
    series, machine = judged.series, judged.series.machine
    points = min(STRIP_MOST, width - NAME_WIDTH - 28)
    chosen = series.processor_sensor
    room, limit = heat_scale(judged)
    title = f"temperatures from {room:.0f} to {limit:.0f} °C, the rest from zero to its maximum"
    yield _axis(title, judged, points)
    for sensor in series.devices.sensors:
        if sensor.is_trusted and sensor.quantity in QUANTITIES:
            mark = "*" if chosen and sensor.name == chosen.name else " "
            unit = QUANTITY_UNITS[sensor.quantity]
            shares = share_curve(judged, sensor, points)
            yield _strip_line(
                f"{mark}{sensor.name}", sensor.shown, unit, _stretched(shares, points)
            )
    if chosen:
        yield Text(f"* taken for the processor: {harmless(chosen.why)}", "dim")
    # an interval's figure stands at the tick that ends it, so that all strips have one axis
    rest: list[tuple[str, Level, str, float | None]] = []
    if machine.mean_clock_hz is not None:
        most = (machine.most_clock_hz or 0.0) / HZ_PER_MHZ
        rest.append((" clock, mean", machine.mean_clock_hz / HZ_PER_MHZ, "MHz", most or None))
    used = machine.busy_cores.at_ticks()
    rest.append((" CPUs in use", used, "cores", machine.logical_processors))
    for kind, rate in series.devices.throttled.items():
        times = Rate(rate.line, rate.counts())
        rest.append((f" heat cut the clock, {kind}", times.at_ticks(), "times", None))
    for name, figures, unit, top in rest:
        values = _stretched(figures.curve(points), points)
        full = top or figures.greatest() or 1.0
        shares = [None if value is None else value / full for value in values]
        yield _strip_line(name, figures, unit, shares)


def _strip_line(name: str, figures: Level | Rate, unit: str, shares: Values) -> Text:
    least, most = figures.least(), figures.greatest()
    if least is None or most is None:
        return Text(f"{harmless(name):<{NAME_WIDTH}.{NAME_WIDTH}} no reading")
    digits = 2 if unit == "cores" else 1 if most < 20 else 0
    return Text(
        f"{harmless(name):<{NAME_WIDTH}.{NAME_WIDTH}} {curve_text(shares, 1.0)} "
        f"{least:.{digits}f} to {most:.{digits}f} {unit}"
    )


def _timeline(judged: Judged, width: int) -> Lines:
    points = min(STRIP_MOST, width - 42)
    yield _axis("levels (· calm, ─ busy, ▒ strained, █ choked), and how full", judged, points)
    for state in judged.diagnosis.resources:
        if state.trace is None:
            continue
        name = cut_middle(
            harmless(" ".join(filter(None, (state.resource, state.name)))), RESOURCE_WIDTH
        )
        line = Text(f"{name:<{RESOURCE_WIDTH}} ")
        line.append(_levels(state.trace, points))
        line.append(f" {state.level}, {percent(state.used)} used")
        yield line
        used = curve_text(_stretched(state.trace.used.curve(points), points), 1.0)
        yield Text(f"{'':<{RESOURCE_WIDTH}} {used}", "dim")
    sampled = judged.series
    if sampled.missed or sampled.asleep_s:
        yield Text(f"{sampled.missed} ticks missed, asleep for {sampled.asleep_s:g} s", "bold")


def _levels(trace: Trace, points: int) -> Text:
    level_rate = Rate(trace.used.line, trace.levels.astype(float))
    levels = [int(value or 0) for value in _stretched(level_rate.peaks(points), points)]
    line = Text()
    for level, run in groupby(levels):
        line.append(level_text(list(run)), LEVEL_LOOKS[LEVELS[level]].rich)
    return line


def _processes(judged: Judged, width: int) -> Lines:
    del width
    machine = judged.series.machine
    used = cores_text(machine.busy_cores.mean(), machine.logical_processors)
    yield Text(f"the whole computer used {used}; cores are logical CPUs in use")
    if judged.diagnosis.limiting:
        yield Text(harmless(judged.triage.verdict.spoken), "bold")


def _stretched(values: Values, points: int) -> Values:
    """Return a short curve with several marks for each value, so that it fills its room."""
    times = max(1, points // max(1, len(values)))
    return [value for value in values for _ in range(times)]


def _axis(title: str, judged: Judged, points: int) -> Text:
    line = judged.series.line
    marks = len(_stretched([None] * min(points, line.intervals), points))
    each_s = line.duration_s / marks
    return Text(
        f"{title}; {span_text(line.duration_s)} from left to right, {span_text(each_s)} a mark",
        "dim",
    )


_DRAWERS: dict[str, Callable[[Judged, int], Lines]] = {
    "cores": _cores,
    "memory": _memory,
    "heat": _heat,
    "timeline": _timeline,
    "processes": _processes,
}
