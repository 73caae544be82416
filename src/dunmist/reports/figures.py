"""Pictures for the report, drawn by Matplotlib as SVG: colour-blind-safe and legible in grey."""

import io
import re
from typing import TYPE_CHECKING

import numpy as np

from dunmist.advice import Triage, percent
from dunmist.reports.document import Figure
from dunmist.series import Series

if TYPE_CHECKING:
    from matplotlib.axes import Axes

INK = "#1c2430"
CULPRIT = "#b04a00"
WIDTH_INCHES = 9.0
ROW_INCHES = 0.22


def report_figures(series: Series, triage: Triage) -> list[Figure]:
    """Return the pictures of a report: each logical processor, and the first culprit's share."""
    import matplotlib as mpl

    mpl.use("svg")
    from matplotlib.figure import Figure as Canvas

    machine = series.machine
    rows = len(machine.numbers)
    with mpl.rc_context({"svg.fonttype": "none", "font.size": 9, "svg.hashsalt": "dunmist"}):
        heights = [max(1.1, ROW_INCHES * rows), 1.6]
        canvas = Canvas(figsize=(WIDTH_INCHES, sum(heights) + 0.9), layout="constrained")
        above, below = canvas.subplots(2, 1, sharex=True, height_ratios=heights)
        _draw_cores(above, series)
        words = _draw_share(below, series, triage)
        written = io.StringIO()
        canvas.savefig(written, format="svg", metadata={"Date": None})
    svg = re.sub(r"^.*?(?=<svg )", "", written.getvalue(), flags=re.S)
    fullest = [f"cpu{n} {percent(float(np.nanmean(machine.busy[:, i])))}"
               for i, n in enumerate(machine.numbers)]  # fmt: skip
    alternative = f"Mean load of each logical processor: {', '.join(fullest)}. {words}"
    return [Figure(svg, alternative)]


def _draw_cores(axes: "Axes", series: Series) -> None:
    machine = series.machine
    rows = len(machine.numbers)
    mesh = axes.pcolormesh(
        machine.at_s,
        np.arange(rows + 1) - 0.5,
        100.0 * machine.busy.T,
        cmap="cividis_r",
        vmin=0,
        vmax=100,
        edgecolors="white",
        linewidth=0.3,
    )
    axes.set_yticks(range(rows), [f"cpu{number}" for number in machine.numbers])
    axes.invert_yaxis()
    axes.set_title("Each logical processor, busy share", loc="left", color=INK)
    bar = axes.figure.colorbar(mesh, ax=axes, pad=0.01, aspect=12)
    bar.set_label("busy, %")
    axes.spines[:].set_visible(False)


def _draw_share(axes: "Axes", series: Series, triage: Triage) -> str:
    machine, processes = series.machine, series.processes
    axes.stairs(machine.busy_cores, machine.at_s, color=INK, label="whole computer")
    words = "Below it, the processors in use over time."
    if triage.culprits:
        name = triage.culprits[0].name
        number = next(
            number
            for number, application in enumerate(processes.grouping.applications)
            if application.name == name
        )
        cores = processes.all_cores[:, number]
        axes.stairs(cores, machine.at_s, fill=True, color=CULPRIT, alpha=0.75, label=_plain(name))
        words = f"Below it, the processors in use over time, of which {name} used a part."
    axes.set_ylim(0, max(1.0, len(machine.numbers)) * 1.05)
    axes.set_xlim(float(machine.at_s[0]), float(machine.at_s[-1]))
    axes.set_xlabel("seconds since the first tick")
    axes.set_ylabel("cores used")
    axes.legend(loc="lower right", bbox_to_anchor=(1.0, 1.0), ncols=2, frameon=False)
    axes.spines[["top", "right"]].set_visible(False)
    return words


def _plain(name: str) -> str:
    # Matplotlib takes a dollar sign for mathematics and a leading underscore for 'no label'
    return name.replace("$", r"\$").lstrip("_") or "(no name)"
