"""Draw the parts of memory over time, which add up, and paging."""

from matplotlib.axes import Axes
from matplotlib.figure import Figure

from dunmist.advice import Judged
from dunmist.reports.pictures.style import COLOURS, canvas, legend, step_line, styles, title
from dunmist.reports.pictures.time_axis import finish
from dunmist.series import Level, Process, Series, memory_breakdown

GIB = float(1 << 30)
# a part below this share of the memory is drawn together with the others like it
LEAST_SHARE = 0.005


def draw_memory(judged: Judged, process: Process | None = None) -> Figure:
    """Return the parts of the memory stacked up to the whole, and the traffic with swap below."""
    del process
    series = judged.series
    figure, axes = canvas([2.8, 1.2])
    _draw_parts(axes[0], series)
    _draw_paging(axes[1], series)
    finish(axes, judged)
    return figure


def _draw_parts(panel: Axes, series: Series) -> None:
    at_s, parts = series.line.at_s, memory_breakdown(series.machine)
    total = sum(held.last() or 0.0 for held in parts.values())
    small = {
        name: held for name, held in parts.items() if (held.greatest() or 0.0) < LEAST_SHARE * total
    }
    large = {name: held for name, held in parts.items() if name not in small and name != "free"}
    if small:
        large["other parts"] = Level.total_of(series.line, small.values())
    large["free"] = parts["free"]
    below = Level.nothing(series.line)
    for (name, held), (colour, _, hatch) in zip(large.items(), styles(), strict=False):
        shade = "#e4e6e8" if name == "free" else colour
        top = below + held / GIB
        panel.fill_between(
            at_s,
            below.values,
            top.values,
            facecolor=shade,
            edgecolor="white",
            linewidth=0.4,
            label=name,
            hatch="" if name == "free" else hatch,
        )
        below = top
    panel.set_ylim(0, (below.greatest() or 0.0) * 1.01)
    panel.set_ylabel("GiB")
    title(panel, "Memory")
    legend(panel)


def _draw_paging(panel: Axes, series: Series) -> None:
    for word, label, colour, dash in (
        ("pswpout", "out to swap", COLOURS[1], "-"),
        ("pswpin", "back from swap", COLOURS[0], "--"),
    ):
        step_line(
            panel,
            series.machine.paging_per_s(word),
            color=colour,
            linestyle=dash,
            linewidth=1.4,
            label=label,
        )
    panel.set_ylim(bottom=0, top=max(10.0, panel.get_ylim()[1]))
    panel.set_ylabel("pages/s")
    title(panel, "Paging")
    legend(panel)
