"""Draw the CPU time of the busiest programs: a bar for each, divided by kind of work."""

import textwrap

from matplotlib.figure import Figure

from dunmist.advice import Judged, percent, work_shares
from dunmist.reports.pictures.style import (
    FAINT,
    INK,
    canvas,
    legend,
    nothing_to_draw,
    plain_label,
    styles,
    title,
)
from dunmist.series import Process

# programs that have a bar, and the letters of a kind of work on a line of the legend
PROGRAMS_MOST, LEGEND_COLUMNS = 5, 34
BAR_INCHES, AXIS_INCHES = 0.42, 0.7
# narrower pieces have no room for their share
LABELLED_LEAST = 0.07


def draw_work(judged: Judged, process: Process | None = None) -> Figure:
    """Return a bar for each program of which enough code was sampled, in cores."""
    del process
    shown = [
        (application, shares)
        for application in sorted(
            judged.series.applications, key=lambda application: -application.cores.mean()
        )
        if (shares := work_shares(judged.series, application, judged.diagnosis.limits))
    ][:PROGRAMS_MOST]
    figure, axes = canvas([AXIS_INCHES + BAR_INCHES * max(1, len(shown))])
    panel = axes[0]
    if not shown:
        nothing_to_draw(panel, "no code was sampled, or too little of it")
        panel.set_xticks([])
        return figure
    kinds = list(dict.fromkeys(does for _, shares in shown for does, _ in shares))
    looks = dict(zip(kinds, styles(), strict=False))
    labelled = set[str]()
    most = max(application.cores.mean() for application, _ in shown)
    for index, (application, shares) in enumerate(shown):
        cores, begin = application.cores.mean(), 0.0
        for does, share in shares:
            colour, _, hatch = looks.get(does, (FAINT, "-", ""))
            panel.barh(
                index,
                share * cores,
                left=begin,
                facecolor=colour,
                hatch=hatch,
                edgecolor="white",
                linewidth=0.4,
                label=None if does in labelled else textwrap.fill(does, LEGEND_COLUMNS),
            )
            labelled.add(does)
            if share * cores >= LABELLED_LEAST * most:
                panel.text(
                    begin + share * cores / 2,
                    index,
                    percent(share),
                    ha="center",
                    va="center",
                    fontsize=8.5,
                    color=INK,
                    bbox={"boxstyle": "round,pad=0.15", "facecolor": "white", "linewidth": 0},
                )
            begin += share * cores
        panel.barh(index, max(0.0, cores - begin), left=begin, color=FAINT, alpha=0.3)
    names = [plain_label(application.distinct_name) for application, _ in shown]
    panel.set_yticks(range(len(shown)), names)
    panel.invert_yaxis()
    panel.set_xlabel("cores used, on average; what is grey is spread over other code")
    title(panel, "Where the CPU time went")
    legend(panel)
    return figure
