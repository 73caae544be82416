"""All resources below one another: how full each was, and its level, over the capture."""

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from dunmist.advice import Judged
from dunmist.diagnosis import LEVELS, Trace
from dunmist.reports.pictures.style import FAINT, INK, canvas, legend, plain_label, title
from dunmist.reports.pictures.time_axis import finish
from dunmist.reports.styles import LEVEL_LOOKS
from dunmist.series import Floats, Process

# fainter to stronger, so that grey tells them apart as well, on a light page and on a dark one
STRENGTHS = (0.12, 0.35, 0.65, 1.0)
ROW_INCHES = 0.46


def draw_timeline(judged: Judged, process: Process | None = None) -> Figure:
    """Return one row for each resource, shaded by level, with its use as a line."""
    del process
    traced = [
        (resource, resource.trace)
        for resource in judged.diagnosis.resources
        if resource.trace is not None
    ]
    figure, axes = canvas([max(1.4, ROW_INCHES * len(traced))])
    panel = axes[0]
    at_s = judged.series.line.at_s
    for row, (_, trace) in enumerate(traced):
        _draw_row(panel, row, trace, at_s)
    names = [" ".join(filter(None, (state.resource, state.name))) for state, _ in traced]
    panel.set_yticks(np.arange(len(traced)) + 0.5, [plain_label(name) for name in names])
    panel.set_ylim(len(traced), 0)
    title(panel, "Levels; the line says how full, from bottom to top of each row")
    panel.tick_params(axis="y", length=0)
    for index, level in enumerate(LEVELS):
        panel.fill_between(
            [],
            [],
            facecolor=LEVEL_LOOKS[level].page,
            alpha=STRENGTHS[index],
            edgecolor=FAINT,
            linewidth=0.5,
            label=level,
        )
    legend(panel)
    finish(axes, judged)
    return figure


def _draw_row(panel: Axes, row: int, trace: Trace, at_s: Floats) -> None:
    for index, level in enumerate(LEVELS):
        panel.stairs(
            np.where(trace.levels == index, row + 0.94, np.nan),
            at_s,
            baseline=row + 0.06,
            fill=True,
            facecolor=LEVEL_LOOKS[level].page,
            alpha=STRENGTHS[index],
            edgecolor="none",
        )
    used = trace.used.known_or(0.0).values
    panel.stairs(row + 0.94 - 0.88 * used, at_s, color=INK, linewidth=1.1, baseline=None)
