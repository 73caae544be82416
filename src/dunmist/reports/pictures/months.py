"""Weeks and months as a picture: who used most over time, and what drifts with its trend."""

from datetime import datetime

import numpy as np
from matplotlib.axes import Axes
from matplotlib.dates import DateFormatter
from matplotlib.figure import Figure

from dunmist.advice import HistoryReport, ReportedDrift
from dunmist.reports.months import BY
from dunmist.reports.pictures.style import COLOURS, INK, canvas, legend, plain_label, title

PROGRAMS_SHOWN, DRIFTS_SHOWN = 5, 3
TOP_INCHES, DRIFT_INCHES = 2.2, 1.6
# figures of each unit as people read them: what they are divided by, and the unit then
SHOWN = {
    "cores": (1.0, "cores"),
    "bytes": (2.0**20, "MiB"),
    "bytes/s": (2.0**20, "MiB/s"),
    "W": (1.0, "W"),
    "K/core": (1.0, "K/core"),
    "s": (1.0, "s"),
    "share": (0.01, "%"),
}
TITLES = {
    "memory-drift": "Memory of {name}",
    "cooling-drift": "Heating of the CPU by each core in use",
    "start-drift": "How long a start takes",
    "disk-drift": "Time for a request of {name}",
    "battery-fading": "Capacity of {name}",
    "storage-forecast": "Room taken on {name}",
}
S_PER_DAY = 86_400.0


def draw_months(report: HistoryReport) -> Figure:
    """Return the greatest users over time, and below each figure that drifts."""
    drifts = report.drifts[:DRIFTS_SHOWN]
    figure, axes = canvas([TOP_INCHES, *[DRIFT_INCHES] * len(drifts)])
    _draw_programs(axes[0], report)
    for panel, drift in zip(axes[1:], drifts, strict=True):
        _draw_drift(panel, drift)
    for panel in axes:
        panel.xaxis_date()  # days since 1970, as Matplotlib has dates
        panel.xaxis.set_major_formatter(DateFormatter("%-d %b"))  # type: ignore[no-untyped-call]
        panel.tick_params(labelbottom=True)
    return figure


def _draw_programs(panel: Axes, report: HistoryReport) -> None:
    scale, unit = SHOWN[report.rate_unit]
    begin, end = (_day(text) for text in (report.since, report.until))
    marks = len(report.programs[0].rates) if report.programs else 1
    days = begin + (end - begin) * (np.arange(marks) + 0.5) / marks
    for colour, each in zip(COLOURS, report.programs[:PROGRAMS_SHOWN], strict=False):
        rates = [np.nan if rate is None else rate / scale for rate in each.rates]
        panel.plot(days, rates, color=colour, label=plain_label(each.name), linewidth=1.6)
    panel.set_ylabel(unit)
    panel.set_ylim(bottom=0)
    title(panel, f"Who used most: {BY[report.by]}")
    legend(panel)


def _draw_drift(panel: Axes, drift: ReportedDrift) -> None:
    scale, unit = SHOWN[drift.unit]
    if unit == "MiB" and max(drift.values) > 1e4 * scale:
        scale, unit = scale * 1024.0, "GiB"
    panel.plot(
        drift.days,
        [value / scale for value in drift.values],
        "o",
        color=COLOURS[0],
        markersize=3,
        label="each day",
    )
    first, before, last, now = drift.trend
    panel.plot([first, last], [before / scale, now / scale], color=INK, label="trend")
    for index, day in enumerate(drift.changed_days):
        label = None if index else "a change"
        panel.axvline(day, color=COLOURS[1], linestyle="--", linewidth=1.0, label=label)
    panel.set_ylabel(unit)
    what = TITLES[drift.kind].format(name=plain_label(drift.name or ""))
    title(panel, f"{what}: since about {drift.since}")
    legend(panel)


def _day(text: str) -> float:
    """Return a local time in days since 1970."""
    at = datetime.fromisoformat(text)
    offset = at.utcoffset()
    return (at.timestamp() + (offset.total_seconds() if offset else 0.0)) / S_PER_DAY
