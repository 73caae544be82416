"""The resource that limits, and the culprits' part in it, over the same time axis.

Heat is drawn as what a thermometer says: degrees with the limit as a line, and the clock below.
"""

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from dunmist.advice import Judged
from dunmist.diagnosis import RESOURCE_BY_WORD, Examination, ResourceState
from dunmist.reports.pictures.heat import draw_clock, draw_processor_heat
from dunmist.reports.pictures.stack import draw_stack
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
from dunmist.reports.shown_resource import pressure_name, shown_name, shown_state
from dunmist.reports.styles import LEVEL_LOOKS
from dunmist.series import Process, Rate

# the rest is drawn as one
CULPRITS_SHOWN = 4
MIB = float(1 << 20)
# the first culprit's name stands in its area where that is so high, of the whole panel
NAMED_LEAST = 0.12
# how a demand is drawn: by what it is divided, and what its axis says
AXES = {
    "cores": (1.0, "cores used"),
    "processor": (0.01, "% of one CPU"),
    "bytes": (MIB, "MiB of its own"),
    "bytes/s": (MIB, "MiB/s"),
    "tcp-bytes/s": (MIB, "MiB/s over TCP"),
    "card": (0.01, "% of the card's time"),
}


def draw_limiting(judged: Judged, process: Process | None = None) -> Figure:
    """Return the limiting resource, or the fullest where none limits, and who uses it."""
    del process
    state = shown_state(judged.diagnosis)
    sensor = judged.series.processor_sensor if state.resource == "heat" else None
    clock = judged.series.machine.mean_clock_hz if sensor else None
    figure, axes = canvas([1.7, *([1.0] if clock is not None else []), 2.2])
    if sensor is None:
        _draw_state(axes[0], state)
    else:
        draw_processor_heat(axes[0], judged.series, sensor)
        legend(axes[0])
    if clock is not None:
        draw_clock(axes[1], judged.series, clock)
        title(axes[1], "Clock, mean of all CPUs")
        legend(axes[1])
    axes[0].set_title(
        f"{plain_label(shown_name(state))}: {state.level}",
        loc="left",
        fontsize=10.5,
        color=LEVEL_LOOKS[state.level].page,
    )
    _draw_users(axes[-1], judged, state)
    finish(axes, judged)
    return figure


def _draw_state(panel: Axes, state: ResourceState) -> None:
    trace = state.trace
    if trace is None:
        return
    step_line(panel, trace.used * 100.0, color=INK, linewidth=1.5, label="used")
    if trace.pressure is not None:
        panel.stairs(
            (trace.pressure * 100.0).values,
            trace.pressure.line.at_s,
            fill=True,
            color=COLOURS[1],
            alpha=0.55,
            label=pressure_name(state),
        )
    panel.set_ylim(0, 104)
    panel.set_ylabel("%")
    legend(panel)


def _draw_users(panel: Axes, judged: Judged, state: ResourceState) -> None:
    """Draw what the culprits had of it, stacked, below what all had."""
    series, diagnosis = judged.series, judged.diagnosis
    find_demand = RESOURCE_BY_WORD[state.resource].demand
    if find_demand is None:
        return
    demand = find_demand(Examination(series, diagnosis.limits))
    scale, unit = AXES[demand.unit]
    shown = [culprit.application for culprit in diagnosis.culprits[:CULPRITS_SHOWN]]
    if not shown:
        greatest = np.argsort([-rate.total() for rate in demand.has])[:CULPRITS_SHOWN]
        shown = [series.applications[int(number)] for number in greatest]
    parts = [
        (application, demand.has[application.number].known_or(0.0) / scale) for application in shown
    ]
    draw_stack(panel, series, parts, demand.whole / scale)
    panel.set_ylim(bottom=0)
    panel.set_ylabel(unit)
    if diagnosis.culprits and parts:
        _name_in(panel, parts[0][1], diagnosis.culprits[0].name)
    title(panel, "Who has it")
    legend(panel)


def _name_in(panel: Axes, area: Rate, name: str) -> None:
    """Write the first culprit's name into its area, where it is high enough to hold it."""
    index = int(np.argmax(area.known_or(0.0).values))
    height, line = float(area.known_or(0.0).values[index]), area.line
    if height < NAMED_LEAST * panel.get_ylim()[1]:
        return
    at_s = (line.at_s[index] + line.at_s[index + 1]) / 2.0
    share = (at_s - line.at_s[0]) / line.duration_s
    side = "left" if share < 1 / 3 else "right" if share > 2 / 3 else "center"
    panel.text(
        float(at_s),
        height / 2.0,
        plain_label(name),
        ha=side,
        va="center",
        color="white",
        fontweight="bold",
        fontsize=10.0,
        zorder=4,
    )
