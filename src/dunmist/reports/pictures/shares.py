"""Who used the CPU over time: the few greatest applications, the rest, the whole."""

import numpy as np
from matplotlib.figure import Figure

from dunmist.advice import Judged
from dunmist.reports.pictures.style import (
    FAINT,
    INK,
    canvas,
    legend,
    plain_label,
    step_line,
    styles,
    title,
)
from dunmist.reports.pictures.time_axis import finish
from dunmist.series import Process, Rate

# as many shades as are told apart in grey
GREATEST = 6


def draw_shares(judged: Judged, process: Process | None = None) -> Figure:
    """Return the use of the greatest applications stacked below that of the whole computer."""
    del process
    series, machine = judged.series, judged.series.machine
    greatest = sorted(series.applications, key=lambda application: -application.cores.total())[
        :GREATEST
    ]
    figure, axes = canvas([3.0])
    panel = axes[0]
    below = Rate.nothing(series.line)
    for application, (colour, _, hatch) in zip(greatest, styles(), strict=False):
        top = below + application.cores
        panel.stairs(
            top.values,
            series.line.at_s,
            baseline=below.values,
            fill=True,
            facecolor=colour,
            hatch=hatch,
            edgecolor="white",
            linewidth=0.4,
            label=plain_label(application.distinct_name),
        )
        below = top
    whole = np.maximum(machine.busy_cores.values, below.values)
    panel.stairs(
        whole,
        series.line.at_s,
        baseline=below.values,
        fill=True,
        color=FAINT,
        alpha=0.35,
        label="all others",
    )
    step_line(panel, machine.busy_cores, color=INK, linewidth=1.3, label="whole computer")
    panel.set_ylim(0, max(1.0, machine.logical_processors) * 1.05)
    panel.set_ylabel("cores used")
    title(panel, "Who used the CPUs")
    legend(panel)
    finish(axes, judged)
    return figure
