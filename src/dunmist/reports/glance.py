"""Build the glance of a report: resources and programs over time as shares, and the first steps.

The first screen of a terminal and the head of a page are both made of it. Scales tell the truth:
shares stand between 0 and 1, heat between a room and the limit of its sensor.
"""

from dunmist.advice import Judged, change_brief, doing_text, percent
from dunmist.diagnosis import RESOURCE_BY_WORD, Culprit, Examination, ResourceState
from dunmist.harmless import cut_middle
from dunmist.reports.document import Glance, GlanceStep, Glimpse
from dunmist.reports.leading_steps import leading_steps
from dunmist.reports.program_rows import ProgramRow, busiest_rows, culprit_rows, heading_of
from dunmist.series import Series

# less than this is nothing that anybody needs to read at the desk
SHOWN_LEAST = 0.005
# one point for half a percent of a usual page's width
POINTS, PROGRAMS_SHOWN, STEPS_SHOWN = 60, 3, 4
# characters of a command line in half a page
COMMAND_MOST = 90
# the full text names the sensor and the CPU
NAMELESS = ("heat", "cpu", "memory", "swap")

Shares = list[float | None]


def glance(judged: Judged) -> Glance:
    """Return the first glance of the page."""
    resources = [
        Glimpse(
            resource_name(state),
            state.level,
            resource_figures(state, judged.series),
            resource_shares(state, POINTS),
        )
        for state in judged.diagnosis.resources
        if state.trace is not None
    ]
    return Glance(resources, _programs(judged), _steps(judged))


def _programs(judged: Judged) -> list[Glimpse]:
    """Return the ranked programs over time, or the busiest ones, which are not to blame."""
    culprits = judged.diagnosis.culprits
    if not culprits:
        return [
            Glimpse(row.name, "", f"{row.figure} {heading_of(judged)}", [], _about(row))
            for row in busiest_rows(judged)[:PROGRAMS_SHOWN]
        ]
    return [
        Glimpse(
            culprit.name,
            culprit.role,
            f"{percent(culprit.score)} of it, {row.figure} {heading_of(judged)}",
            culprit_shares(judged, culprit, POINTS),
            ". ".join(filter(None, (_about(row), *_why(judged, culprit)))),
        )
        for culprit, row in zip(
            culprits[:PROGRAMS_SHOWN], culprit_rows(judged)[:PROGRAMS_SHOWN], strict=True
        )
    ]


def _about(row: ProgramRow) -> str:
    more = f" and {row.more} more" if row.more else ""
    return f"process {row.pid}{more}, of {row.owner}: {cut_middle(row.command, COMMAND_MOST)}"


def _why(judged: Judged, culprit: Culprit) -> list[str]:
    """Return the work of a culprit, since when, and recent changes, as far as known."""
    case = judged.cases.of_culprit(culprit)
    if case is None:
        return []
    doing = doing_text(case.doing, judged.diagnosis.limiting)
    since = next(
        (
            advised.since.text
            for advised in judged.triage.culprits
            if advised.since and advised.name == culprit.name
        ),
        "",
    )
    changed = change_brief(case.recent)
    return [
        f"Doing: {doing}" if doing else "",
        _capital(since),
        f"It was {changed}" if changed else "",
    ]


def _steps(judged: Judged) -> list[GlanceStep]:
    steps, fix = leading_steps(judged)
    return [
        GlanceStep(
            filled.step.action,
            _capital(filled.brief or filled.step.text),
            filled.step.risk,
            fix.format(filled.step.action) if fix and filled.act else filled.step.command,
            "dunmist fix undo" if fix and filled.act and filled.step.undo else filled.step.undo,
        )
        for filled in steps[:STEPS_SHOWN]
    ]


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def resource_name(state: ResourceState) -> str:
    """Return a resource, and which one of several it is."""
    name = None if state.resource in NAMELESS else state.name
    return " ".join(filter(None, (state.resource, name)))


def resource_figures(state: ResourceState, series: Series) -> str:
    """Return its use and pressure, or its temperature with the limit."""
    sensor = series.processor_sensor
    if state.resource == "heat" and sensor is not None:
        celsius = sensor.level.median()
        limit = f" of {sensor.critical:.0f}" if sensor.critical else ""
        taken = state.pressure or 0.0
        lost = f", clock -{percent(taken)}" if taken >= SHOWN_LEAST else ""
        return "unknown" if celsius is None else f"{celsius:.0f}{limit} °C{lost}"
    pressure = state.pressure or 0.0
    held = f", tasks waited {percent(pressure)}" if pressure >= SHOWN_LEAST else ""
    return f"{percent(state.used)} used{held}"


def resource_shares(state: ResourceState, points: int) -> Shares:
    """Return the use of a resource over time; empty if it was not followed."""
    if state.trace is None:
        return []
    return [None if value is None else _share(value) for value in state.trace.used.curve(points)]


def culprit_shares(judged: Judged, culprit: Culprit, points: int) -> Shares:
    """Return a culprit's part in the limiting resource over time."""
    limiting = judged.diagnosis.limiting
    find = RESOURCE_BY_WORD[limiting].demand if limiting else None
    if find is None:
        return []
    demand = find(Examination(judged.series, judged.diagnosis.limits))
    most = demand.whole.greatest() or 0.0
    had = demand.has[culprit.application.number].curve(points)
    return [None if value is None else _share(value / most if most > 0 else 0.0) for value in had]


def _share(value: float) -> float:
    return min(max(value, 0.0), 1.0)
