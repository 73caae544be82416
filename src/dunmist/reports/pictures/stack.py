"""Draw figures of several applications over time, stacked, with the rest on top."""

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes

from dunmist.reports.pictures.style import FAINT, plain_label, styles
from dunmist.series import Application, Rate, Series


def draw_stack(
    panel: Axes, series: Series, parts: Sequence[tuple[Application, Rate]], whole: Rate
) -> None:
    """Draw the parts in the unit of ``whole``, with what is left of it as 'all others'."""
    below = Rate.nothing(series.line)
    for (application, part), (colour, _, hatch) in zip(parts, styles(), strict=False):
        top = below + part
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
    panel.stairs(
        np.maximum(whole.values, below.values),
        series.line.at_s,
        baseline=below.values,
        fill=True,
        color=FAINT,
        alpha=0.3,
        label="all others",
    )
