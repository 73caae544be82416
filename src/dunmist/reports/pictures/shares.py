"""Who used the processors over time: the few greatest applications, the rest, the whole."""

import numpy as np
from matplotlib.figure import Figure

from dunmist.diagnosis import Diagnosis
from dunmist.reports.pictures.style import (
    FAINT,
    INK,
    canvas,
    finish,
    legend,
    plain_label,
    step_line,
    styles,
    title,
)
from dunmist.series import Series
from dunmist.series.naming import distinct_name

GREATEST = 6


def draw_shares(series: Series, diagnosis: Diagnosis, identity: int | None = None) -> Figure:
    """Return the use of the greatest applications stacked below that of the whole computer."""
    del diagnosis, identity
    machine, processes = series.machine, series.processes
    cores = processes.all_cores
    order = np.argsort(-cores.sum(axis=0))[:GREATEST]
    figure, axes = canvas([3.0])
    panel = axes[0]
    below = np.zeros(len(machine.interval_s))
    for number, (colour, _, hatch) in zip(order, styles(), strict=False):
        name = distinct_name(series, int(number))
        top = below + cores[:, number]
        panel.stairs(top, machine.at_s, baseline=below, fill=True, facecolor=colour, hatch=hatch,
                     edgecolor="white", linewidth=0.4, label=plain_label(name))  # fmt: skip
        below = top
    panel.stairs(np.maximum(machine.busy_cores, below), machine.at_s, baseline=below, fill=True,
                 color=FAINT, alpha=0.35, label="all others")  # fmt: skip
    step_line(panel, machine.busy_cores, machine.at_s, color=INK, linewidth=1.3,
                 label="whole computer")  # fmt: skip
    panel.set_ylim(0, max(1.0, float(np.median(machine.online))) * 1.05)
    panel.set_ylabel("cores used")
    title(panel, "Who used the processors")
    legend(panel)
    finish(axes, series)
    return figure
