"""One process over the capture: processor, waiting, storage, memory."""

from matplotlib.figure import Figure

from dunmist.advice import Judged
from dunmist.reports.pictures.style import (
    COLOURS,
    INK,
    canvas,
    legend,
    plain_label,
    step_line,
    title,
)
from dunmist.reports.pictures.time_axis import finish
from dunmist.series import Process

MIB = float(1 << 20)


def draw_process(judged: Judged, process: Process | None = None) -> Figure:
    """Return the curves of one process; it has to be named."""
    if process is None:
        raise ValueError("a picture of one process needs the process")
    at_s, name = judged.series.line.at_s, plain_label(process.name)
    figure, axes = canvas([1.7, 1.3, 1.3])
    axes[0].stairs(process.cores.values, at_s, fill=True, color=COLOURS[2], label="used")
    step_line(axes[0], process.waiting, color=COLOURS[1], linestyle="--", label="waited for one")
    axes[0].set(ylabel="cores", ylim=(0, None))
    title(axes[0], f"{name} ({process.pid}): CPUs")
    step_line(axes[1], process.read_bytes_per_s / MIB, color=COLOURS[0], label="read")
    step_line(
        axes[1], process.write_bytes_per_s / MIB, color=COLOURS[1], linestyle="--", label="written"
    )
    axes[1].set(ylabel="MiB/s", ylim=(0, None))
    title(axes[1], "Storage")
    axes[2].plot(at_s, process.private_bytes.values / MIB, color=INK, label="its own")
    axes[2].plot(
        at_s, process.rss_bytes.values / MIB, color=COLOURS[0], linestyle="--", label="resident"
    )
    axes[2].set(ylabel="MiB", ylim=(0, None))
    title(axes[2], "Memory")
    for panel in axes:
        legend(panel)
    finish(axes, judged)
    return figure
