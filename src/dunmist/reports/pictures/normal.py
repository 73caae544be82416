"""Draw a capture against those of good times: how full each resource was, over one time axis."""

from matplotlib.axes import Axes
from matplotlib.figure import Figure

from dunmist.compare import Examined, Unusual, resource_key
from dunmist.diagnosis import ResourceState
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
from dunmist.reports.shown_resource import shown_name

PANELS_MOST, PANEL_INCHES = 4, 1.1
# so many of the good captures are drawn, those nearest to now
GOOD_MOST = 6


def draw_against_normal(unusual: Unusual) -> Figure:
    """Return each resource that is outside of its range, else the fullest, now and usually."""
    outside = {
        (usual_range.figure.resource, usual_range.figure.name) for usual_range in unusual.outside
    }
    states = [state for state in unusual.now.diagnosis.resources if state.trace is not None]
    states.sort(key=lambda state: (resource_key(state) not in outside, -state.used))
    shown = states[:PANELS_MOST]
    figure, axes = canvas([PANEL_INCHES] * max(1, len(shown)))
    for panel, state in zip(axes, shown, strict=False):
        _draw(panel, state, unusual)
    finish(axes, unusual.now)
    return figure


def _draw(panel: Axes, state: ResourceState, unusual: Unusual) -> None:
    label: str | None = "usually"
    for good in unusual.normal[-GOOD_MOST:]:
        other = _same(state, good)
        if other is not None and other.trace is not None:
            step_line(panel, other.trace.used * 100.0, color=COLOURS[0], linewidth=1.0, label=label)
            label = None
    assert state.trace is not None  # only such are drawn
    step_line(panel, state.trace.used * 100.0, color=INK, linewidth=1.8, label="now")
    if state.trace.pressure is not None:
        panel.stairs(
            (state.trace.pressure * 100.0).values,
            state.trace.pressure.line.at_s,
            fill=True,
            color=COLOURS[1],
            alpha=0.45,
            label="tasks waited now",
        )
    panel.set_ylim(0, 104)
    panel.set_ylabel("%")
    title(panel, f"{plain_label(shown_name(state))}: {state.level}")
    legend(panel)


def _same(state: ResourceState, good: Examined) -> ResourceState | None:
    return next(
        (
            resource
            for resource in good.diagnosis.resources
            if resource_key(resource) == resource_key(state)
        ),
        None,
    )
