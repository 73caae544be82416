"""One process over the capture: processor, waiting, storage, memory."""

from matplotlib.figure import Figure

from dunmist.diagnosis import Diagnosis
from dunmist.reports.pictures.style import (
    COLOURS,
    INK,
    canvas,
    finish,
    legend,
    plain_label,
    step_line,
    title,
)
from dunmist.series import Series
from dunmist.series.one_process import load_process

MIB = float(1 << 20)


def draw_process(series: Series, diagnosis: Diagnosis, identity: int | None = None) -> Figure:
    """Return the curves of one process; it has to be named."""
    del diagnosis
    if identity is None:
        raise ValueError("a picture of one process needs the process")
    over, at_s = load_process(series.path, identity), series.machine.at_s
    facts = series.processes.grouping.facts(identity)
    name = plain_label(series.processes.grouping.program(identity).name)
    figure, axes = canvas([1.7, 1.3, 1.3])
    axes[0].stairs(over.cores, at_s, fill=True, color=COLOURS[2], label="used")
    step_line(axes[0], over.waiting, at_s, color=COLOURS[1], linestyle="--", label="waited for one")
    axes[0].set(ylabel="cores", ylim=(0, None))
    title(axes[0], f"{name} ({facts.pid}): processors")
    step_line(axes[1], over.read_bytes_per_s / MIB, at_s, color=COLOURS[0], label="read")
    step_line(axes[1], over.write_bytes_per_s / MIB, at_s, color=COLOURS[1], linestyle="--",
                   label="written")  # fmt: skip
    axes[1].set(ylabel="MiB/s", ylim=(0, None))
    title(axes[1], "Storage")
    axes[2].plot(at_s, over.private_bytes / MIB, color=INK, label="its own")
    axes[2].plot(at_s, over.rss_bytes / MIB, color=COLOURS[0], linestyle="--", label="resident")
    axes[2].set(ylabel="MiB", ylim=(0, None))
    title(axes[2], "Memory")
    for panel in axes:
        legend(panel)
    finish(axes, series)
    return figure
