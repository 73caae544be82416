"""Draw CPU use over time: the few greatest applications, the rest, the whole."""

from matplotlib.figure import Figure

from dunmist.advice import Judged
from dunmist.reports.pictures.stack import draw_stack
from dunmist.reports.pictures.style import INK, canvas, legend, step_line, title
from dunmist.reports.pictures.time_axis import finish
from dunmist.series import Process

# as many shades as can be distinguished in grey
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
    parts = [(application, application.cores) for application in greatest]
    draw_stack(panel, series, parts, machine.busy_cores)
    step_line(panel, machine.busy_cores, color=INK, linewidth=1.3, label="whole computer")
    panel.set_ylim(0, max(1.0, machine.logical_processors) * 1.05)
    panel.set_ylabel("cores used")
    title(panel, "Who used the CPUs")
    legend(panel)
    finish(axes, judged)
    return figure
