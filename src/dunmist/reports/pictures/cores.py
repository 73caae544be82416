"""Every logical CPU over time, with the clock and what heat took."""

from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from dunmist.advice import Judged
from dunmist.reports.pictures.heat import draw_clock
from dunmist.reports.pictures.style import INK, ROW_INCHES, SHADES, canvas, legend, title
from dunmist.reports.pictures.time_axis import finish
from dunmist.series import Process, Series
from dunmist.tables import in_core_order

# more CPUs than this share the height of as many
LABELS_MOST = 40
FEW: dict[str, Any] = {"edgecolors": "white", "linewidth": 0.3}
MANY: dict[str, Any] = {"rasterized": True}


def draw_cores(judged: Judged, process: Process | None = None) -> Figure:
    """Return a strip of shade for each CPU, grouped by core, and the clock below it."""
    del process
    series = judged.series
    machine = series.machine
    heights = [max(1.2, ROW_INCHES * min(len(machine.processors), LABELS_MOST))]
    clock = machine.mean_clock_hz
    figure, axes = canvas(heights if clock is None else [*heights, 1.2])
    _draw_strips(axes[0], series)
    if clock is not None:
        draw_clock(axes[1], series, clock)
        title(axes[1], "Clock")
        legend(axes[1])
    finish(axes, judged)
    return figure


def _draw_strips(panel: Axes, series: Series) -> None:
    order = in_core_order(series.machine.processors)
    mesh = panel.pcolormesh(
        series.line.at_s,
        np.arange(len(order) + 1) - 0.5,
        100.0 * np.array([processor.busy.values for processor in order]),
        cmap=SHADES,
        vmin=0,
        vmax=100,
        # a thousand cells of their own make a page of megabytes
        **(MANY if len(order) > LABELS_MOST else FEW),
    )
    labels = []
    before = None
    for processor in order:
        core = (processor.hardware.package, processor.hardware.core) if processor.hardware else None
        is_first = core is not None and core[1] is not None and core != before
        labels.append(
            f"core {core[1]}  cpu{processor.number}"
            if is_first and core
            else f"cpu{processor.number}"
        )
        before = core
    indices = range(0, len(order), -(-len(order) // LABELS_MOST))
    panel.set_yticks(indices, [labels[index] for index in indices])
    panel.invert_yaxis()
    title(panel, "Each logical CPU")
    scale_axes = panel.inset_axes((1.012, 0.0, 0.014, 1.0))
    bar = panel.figure.colorbar(mesh, cax=scale_axes)
    bar.set_label("busy, %", color=INK)
    scale_axes.tick_params(colors=INK)
    bar.outline.set_visible(False)
    panel.tick_params(length=0)
