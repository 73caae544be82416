"""Every logical processor over time, with the clock and what heat took."""

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from dunmist.advice import Judged
from dunmist.reports.pictures.style import (
    COLOURS,
    INK,
    ROW_INCHES,
    SHADES,
    canvas,
    finish,
    legend,
    title,
)
from dunmist.series import Level, Process, Series
from dunmist.tables import in_place

HZ_PER_GHZ = 1e9


def draw_cores(judged: Judged, process: Process | None = None) -> Figure:
    """Return a strip of shade for each processor, grouped by core, and the clock below it."""
    del process
    series = judged.series
    machine = series.machine
    heights = [max(1.2, ROW_INCHES * len(machine.processors))]
    clock = machine.mean_clock_hz
    figure, axes = canvas(heights if clock is None else [*heights, 1.2])
    _draw_strips(axes[0], series)
    if clock is not None:
        _draw_clock(axes[1], series, clock / HZ_PER_GHZ)
    finish(axes, series)
    return figure


def _draw_strips(panel: Axes, series: Series) -> None:
    order = in_place(series.machine.processors)
    mesh = panel.pcolormesh(
        series.line.at_s, np.arange(len(order) + 1) - 0.5,
        100.0 * np.array([processor.busy.values for processor in order]),
        cmap=SHADES, vmin=0, vmax=100, edgecolors="white", linewidth=0.3,
    )  # fmt: skip
    labels = []
    before = None
    for processor in order:
        core = (processor.place.package, processor.place.core) if processor.place else None
        is_first = core is not None and core[1] is not None and core != before
        labels.append(
            f"core {core[1]}  cpu{processor.number}"
            if is_first and core
            else f"cpu{processor.number}"
        )
        before = core
    panel.set_yticks(range(len(order)), labels)
    panel.invert_yaxis()
    title(panel, "Each logical processor")
    beside = panel.inset_axes((1.012, 0.0, 0.014, 1.0))
    bar = panel.figure.colorbar(mesh, cax=beside)
    bar.set_label("busy, %", color=INK)
    beside.tick_params(colors=INK)
    bar.outline.set_visible(False)
    panel.tick_params(length=0)


def _draw_clock(panel: Axes, series: Series, mean_ghz: Level) -> None:
    at_s = series.line.at_s
    panel.plot(at_s, mean_ghz.values, color=INK, label="clock, mean")
    most = (series.machine.most_clock_hz or 0.0) / HZ_PER_GHZ
    if most:
        panel.axhline(most, color=COLOURS[2], linestyle="--", label="greatest possible")
    panel.set_ylim(0, max(most, mean_ghz.greatest() or 0.0) * 1.1)
    panel.set_ylabel("GHz")
    for place, (kind, rate) in enumerate(series.devices.throttled.items()):
        cut = at_s[np.flatnonzero(rate.values > 0) + 1]
        if len(cut):
            height = panel.get_ylim()[1] * (0.06 + 0.13 * place)
            panel.plot(cut, np.full(len(cut), height), "^", color=COLOURS[1 + place],
                       label=f"heat cut the clock ({kind})")  # fmt: skip
    title(panel, "Clock")
    legend(panel)
