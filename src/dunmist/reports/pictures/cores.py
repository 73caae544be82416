"""Every logical processor over time, with the clock and what heat took."""

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from dunmist.diagnosis import Diagnosis
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
from dunmist.series import Series
from dunmist.series.rates import Floats


def draw_cores(series: Series, diagnosis: Diagnosis, identity: int | None = None) -> Figure:
    """Return a strip of shade for each processor, grouped by core, and the clock below it."""
    del diagnosis, identity
    machine = series.machine
    heights = [max(1.2, ROW_INCHES * len(machine.numbers))]
    clock = machine.mean_clock_hz
    figure, axes = canvas(heights if clock is None else [*heights, 1.2])
    _draw_strips(axes[0], series)
    if clock is not None:
        _draw_clock(axes[1], series, clock / 1e9)
    finish(axes, series)
    return figure


def order_of(series: Series) -> list[int]:
    """Return the processors' columns with those of a core and of a package together."""
    places = {one.number: one for one in series.header.machine.processors}

    def place(column: int) -> tuple[int, int, int]:
        number = series.machine.numbers[column]
        one = places.get(number)
        return (one.package or 0, one.core or 0, number) if one else (0, 0, number)

    return sorted(range(len(series.machine.numbers)), key=place)


def _draw_strips(panel: Axes, series: Series) -> None:
    machine = series.machine
    order = order_of(series)
    mesh = panel.pcolormesh(
        machine.at_s, np.arange(len(order) + 1) - 0.5, 100.0 * machine.busy.T[order],
        cmap=SHADES, vmin=0, vmax=100, edgecolors="white", linewidth=0.3,
    )  # fmt: skip
    places = {one.number: one for one in series.header.machine.processors}
    labels = []
    before = None
    for column in order:
        number = machine.numbers[column]
        one = places.get(number)
        core = (one.package, one.core) if one and one.core is not None else None
        named = core is not None and core != before
        labels.append(f"core {core[1]}  cpu{number}" if named and core else f"cpu{number}")
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


def _draw_clock(panel: Axes, series: Series, mean: Floats) -> None:
    machine = series.machine
    panel.plot(machine.at_s, mean, color=INK, label="clock, mean")
    most = max((one.max_khz or 0 for one in series.header.machine.processors), default=0) / 1e6
    if most:
        panel.axhline(most, color=COLOURS[2], linestyle="--", label="greatest possible")
    panel.set_ylim(0, max(most, float(np.nanmax(mean))) * 1.1)
    panel.set_ylabel("GHz")
    for place, (kind, counts) in enumerate(series.devices.throttled.items()):
        cut = machine.at_s[np.flatnonzero(np.nan_to_num(counts) > 0) + 1]
        if len(cut):
            height = panel.get_ylim()[1] * (0.06 + 0.13 * place)
            panel.plot(cut, np.full(len(cut), height), "^", color=COLOURS[1 + place],
                       label=f"heat cut the clock ({kind})")  # fmt: skip
    title(panel, "Clock")
    legend(panel)
