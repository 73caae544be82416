"""Where the memory is over time, in parts that add up, and what was paged."""

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from dunmist.diagnosis import Diagnosis
from dunmist.reports.pictures.style import COLOURS, canvas, finish, legend, step_line, styles, title
from dunmist.series import Series
from dunmist.series.memory_breakdown import memory_breakdown

GIB = float(1 << 30)
# a part below this share of the memory is drawn together with the others like it
LEAST_SHARE = 0.005


def draw_memory(series: Series, diagnosis: Diagnosis, identity: int | None = None) -> Figure:
    """Return the parts of the memory stacked up to the whole, and the traffic with swap below."""
    del diagnosis, identity
    figure, axes = canvas([2.8, 1.2])
    _draw_parts(axes[0], series)
    _draw_paging(axes[1], series)
    finish(axes, series)
    return figure


def _draw_parts(panel: Axes, series: Series) -> None:
    at_s = series.machine.at_s
    parts = memory_breakdown(series.machine)
    total = float(sum(held[-1] for held in parts.values()))
    small = {name: held for name, held in parts.items() if held.max() < LEAST_SHARE * total}
    large = {name: held for name, held in parts.items() if name not in small and name != "free"}
    if small:
        large["other parts"] = sum(small.values(), np.zeros(len(at_s)))
    large["free"] = parts["free"]
    below = np.zeros(len(at_s))
    for (name, held), (colour, _, hatch) in zip(large.items(), styles(), strict=False):
        shade = "#e4e6e8" if name == "free" else colour
        top = below + held / GIB
        panel.fill_between(at_s, below, top, facecolor=shade, edgecolor="white", linewidth=0.4,
                           hatch="" if name == "free" else hatch, label=name)  # fmt: skip
        below = top
    panel.set_ylim(0, float(below.max()) * 1.01)
    panel.set_ylabel("GiB")
    title(panel, "Memory")
    legend(panel)


def _draw_paging(panel: Axes, series: Series) -> None:
    machine = series.machine
    nothing = np.zeros(len(machine.interval_s))
    for word, label, colour, dash in (
        ("pswpout", "out to swap", COLOURS[1], "-"),
        ("pswpin", "back from swap", COLOURS[0], "--"),
    ):
        step_line(panel, np.nan_to_num(machine.paging.get(word, nothing)), machine.at_s,
                     color=colour, linestyle=dash, linewidth=1.4, label=label)  # fmt: skip
    panel.set_ylim(bottom=0, top=max(10.0, panel.get_ylim()[1]))
    panel.set_ylabel("pages/s")
    title(panel, "Paging")
    legend(panel)
