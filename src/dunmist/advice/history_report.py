"""Put a history into words and figures: usage, drifts, and hardware that would help."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta, timezone
from typing import NamedTuple

import msgspec

from dunmist.advice.amounts import date_text
from dunmist.advice.evidence import evidence_of
from dunmist.advice.triage import Evidence
from dunmist.advice.wording import wording
from dunmist.diagnosis import Finding
from dunmist.diagnosis.findings.history import drift_finding
from dunmist.errors import UnknownName
from dunmist.history import DAY_S, Event, Period
from dunmist.history.daily_figures import kelvin_per_core
from dunmist.history.drifts import Drift, find_drifts
from dunmist.history.past import changes_near
from dunmist.history.sums import HeatSum, add_up
from dunmist.history.usage import (
    AMOUNTS,
    By,
    ResourceUse,
    Usage,
    hours_short_of,
    resources_of,
    unattributed_cpu_s,
    usage_by,
)

# marks of a curve in a line of text
MARKS = 28
# tasks that wait for less of the time are not noticed; an hour counts from here on
WAITED_LEAST = 0.05
# hardware is worth its price where this share of the hours would have been better
HOURS_SHARE_LEAST = 0.10
HOURS_LEAST = 40


class ReportedProgram(msgspec.Struct, frozen=True):
    """Usage of one program."""

    name: str
    amount: float
    share: float | None
    peak: float | None
    busiest: str | None  # ISO 8601, the hour with the greatest rate
    busiest_rate: float | None
    rates: list[float | None]  # over time, oldest first


class ReportedResource(msgspec.Struct, frozen=True):
    """Usage of one resource, as shares."""

    name: str
    used_mean: float | None
    used_p95: float | None
    waited_mean: float | None
    waited_p95: float | None
    used: list[float | None]


class ReportedDrift(msgspec.Struct, frozen=True):
    """One figure that drifts."""

    kind: str
    name: str | None
    text: str
    since: str  # local date
    evidence: list[Evidence]
    days: list[float]  # of the points: local dates since 1970
    values: list[float]
    unit: str
    trend: tuple[float, float, float, float]  # first day and value, last day and value
    changed_days: list[float]  # when something changed that may have brought it about


class ReportedEvent(msgspec.Struct, frozen=True):
    """Something that happened."""

    at: str  # ISO 8601
    what: str
    name: str
    value: float | None


class ReportedHardware(msgspec.Struct, frozen=True):
    """Whether other hardware would have helped."""

    part: str
    helps: bool
    text: str


class ReportedHeat(msgspec.Struct, frozen=True):
    """Temperature of the CPU in °C, and the share of its clock that it lost."""

    at_load_celsius: float | None
    at_rest_celsius: float | None
    kelvin_per_core: float | None
    lost_clock: float | None
    energy_j: float | None


class HistoryReport(msgspec.Struct, frozen=True):
    """All that a history says of a span of time."""

    format: str
    version: int
    host: str
    since: str
    until: str
    recorded_s: float
    span_s: float
    hours_with_clock_set: int
    by: str
    unit: str
    rate_unit: str
    programs: list[ReportedProgram]
    unattributed_cpu_s: float
    resources: list[ReportedResource]
    heat: ReportedHeat
    drifts: list[ReportedDrift]
    hardware: list[ReportedHardware]
    events: list[ReportedEvent]


class HistoryQuestion(NamedTuple):
    """Days to go back, the figure that programs are compared by, and a single program if any."""

    days: float
    by: By = "cpu"
    name: str | None = None


def describe_history(
    host: str, periods: Sequence[Period], events: Sequence[Event], asked: HistoryQuestion
) -> HistoryReport:
    """Return the report on the last days of a history; raises UnknownName.

    Drifts are of all that was recorded.
    """
    days, by, name = asked
    until_s = max((period.began_s + period.length_s for period in periods), default=0)
    offset_s = periods[-1].offset_s if periods else 0
    since_s = until_s - days * DAY_S
    inside = [period for period in periods if period.began_s + period.length_s > since_s]
    span = since_s, float(until_s)
    used = usage_by(inside, by, span, MARKS)
    if name is not None:
        used = [each for each in used if each.name == name] or _like(used, name)
    drifts = find_drifts(periods, events)
    heat = HeatSum()
    for period in inside:
        add_up(heat, period.heat)
    return HistoryReport(
        format="dunmist-history",
        version=1,
        host=host,
        since=_at(since_s, offset_s),
        until=_at(until_s, offset_s),
        recorded_s=sum(period.sampled_s for period in inside),
        span_s=until_s - since_s,
        hours_with_clock_set=sum(1 for period in inside if period.clock_set),
        by=by,
        unit=AMOUNTS[by].unit,
        rate_unit=AMOUNTS[by].rate_unit,
        programs=[_program(each) for each in used],
        unattributed_cpu_s=unattributed_cpu_s(inside),
        resources=[_resource(each) for each in resources_of(inside, span, MARKS)],
        heat=_heat(heat),
        drifts=[_drift(drift, events) for drift in drifts if name in (None, drift.name)],
        hardware=_hardware(inside),
        events=[
            ReportedEvent(_at(event.at_s, offset_s), event.what, event.name, event.value)
            for event in events
            if event.at_s >= since_s
        ],
    )


def _like(used: Sequence[Usage], name: str) -> list[Usage]:
    found = [each for each in used if name.lower() in each.name.lower()]
    if not found:
        raise UnknownName(f"{name}: not in these days of the history; 'dunmist history' lists all")
    return found


def _program(each: Usage) -> ReportedProgram:
    busiest = each.busiest
    return ReportedProgram(
        name=each.name,
        amount=each.amount,
        share=each.share,
        peak=each.peak,
        busiest=_at(busiest.began_s, busiest.offset_s) if busiest else None,
        busiest_rate=busiest.rate if busiest else None,
        rates=each.curve,
    )


def _resource(each: ResourceUse) -> ReportedResource:
    return ReportedResource(
        name=each.name,
        used_mean=each.used_mean,
        used_p95=each.used_p95,
        waited_mean=each.held_mean,
        waited_p95=each.held_p95,
        used=each.curve,
    )


def _heat(heat: HeatSum) -> ReportedHeat:
    return ReportedHeat(
        at_load_celsius=heat.busy_celsius_s / heat.busy_s if heat.busy_s else None,
        at_rest_celsius=heat.rest_celsius_s / heat.rest_s if heat.rest_s else None,
        kelvin_per_core=kelvin_per_core(heat),
        lost_clock=heat.lost_clock_s / heat.clock_s if heat.clock_s else None,
        energy_j=heat.energy_j if heat.energy_s else None,
    )


def _drift(drift: Drift, events: Sequence[Event]) -> ReportedDrift:
    changes = changes_near(drift, events)
    finding, points = drift_finding(drift, changes), drift.points
    first, last = points[0].day, points[-1].day
    return ReportedDrift(
        kind=drift.word,
        name=drift.name or None,
        text=_text(finding),
        since=date_text(drift.since_day),
        evidence=evidence_of(finding.evidence),
        days=[point.day for point in drift.lately],
        values=[point.value for point in drift.lately],
        unit=drift.unit,
        trend=(
            first,
            drift.trend.level,
            last,
            drift.trend.level + drift.trend.slope * (last - first),
        ),
        changed_days=[event.at_s / DAY_S for event in changes],
    )


def _text(finding: Finding) -> str:
    return str(wording()["finding"][finding.kind]).format(subject=finding.subject or "")


def _hardware(periods: Sequence[Period]) -> list[ReportedHardware]:
    """Return the benefit of more hardware for each resource, with the hours that support it."""
    words, hardware = wording()["hardware"], []
    names = {name for period in periods for name in period.resources}
    disks = sorted(name for name in names if name.startswith("disk "))
    for part, resources in {"memory": ["memory"], "disk": disks, "cpu": ["cpu"]}.items():
        counts = [hours_short_of(periods, resource, WAITED_LEAST) for resource in resources]
        short, known = max(counts, default=(0, 0))
        if known < HOURS_LEAST:
            continue
        helps = short >= HOURS_SHARE_LEAST * known
        key = f"{part}-{'helps' if helps else 'no'}"
        hardware.append(
            ReportedHardware(part, helps, str(words[key]).format(short=short, known=known))
        )
    return hardware


def _at(timestamp_s: float, offset_s: int) -> str:
    zone = timezone(timedelta(seconds=offset_s)) if offset_s else UTC
    return datetime.fromtimestamp(timestamp_s, zone).isoformat(timespec="minutes")
