"""Findings about weeks and months: what drifts, and which programs are new.

They rest on the history of this computer, where it keeps one.
"""

from collections.abc import Sequence
from dataclasses import replace
from typing import get_args

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.records import EvidenceFigure, Finding, figure
from dunmist.diagnosis.words import EvidenceKey, Severity
from dunmist.history import Event
from dunmist.history.daily_figures import DriftWord
from dunmist.history.drifts import Drift
from dunmist.history.past import changes_near

# the figure that has the slope of each, by its unit
WEEKLY: dict[DriftWord, EvidenceKey] = {
    "memory-drift": "drift-week-bytes",
    "storage-forecast": "drift-week-bytes",
    "cooling-drift": "drift-week-kelvin",
    "start-drift": "drift-week-seconds",
    "disk-drift": "drift-week-seconds",
    "battery-fading": "drift-week-share",
}
# full within so many days is more than a note
SOON_DAYS = 21.0
CHANGES_NAMED = 2


@finds(*get_args(DriftWord))
def _drifts(exam: Examination) -> list[Finding]:
    """Figures that move over weeks, each with its slope and since when."""
    past = exam.past
    if past is None:
        return []
    programs = {application.name: application for application in exam.applications}
    # the history has no paths; steps need the place where a file system is mounted
    systems = [each for survey in exam.series.surveyed.surveys for each in survey.file_systems]
    points = {each.source.rpartition("/")[2]: each.point for each in reversed(systems)}
    findings = []
    for drift in past.drifts:
        finding = drift_finding(drift, changes_near(drift, past.events))
        if drift.word == "memory-drift":
            finding = replace(finding, application=programs.get(drift.name))
        elif drift.word == "storage-forecast":
            # a disk that is not here now needs nothing
            if drift.name not in points:
                continue
            finding = replace(finding, subject=points[drift.name])
        findings.append(finding)
    return findings


def drift_finding(drift: Drift, changes: Sequence[Event]) -> Finding:
    """Return a drift as a finding, with the changes about when it began."""
    evidence = [_level(drift), _slope(drift)]
    if changes:
        named = [event.name for event in changes]
        evidence.append(figure("drift-change", float(len(changes)), which=named[:CHANGES_NAMED]))
    return Finding(drift.word, _severity(drift), drift.name or None, evidence)


def _severity(drift: Drift) -> Severity:
    if drift.word == "storage-forecast":
        full_day = drift.full_day or 0.0
        return "concern" if full_day - drift.until_day <= SOON_DAYS else "note"
    return "note" if drift.word == "start-drift" else "concern"


def _slope(drift: Drift) -> EvidenceFigure:
    """Return the change of the figure per week, with its interval."""
    week = 7.0
    low, high = sorted((abs(drift.trend.low) * week, abs(drift.trend.high) * week))
    value = abs(drift.trend.slope) * week
    return figure(WEEKLY[drift.word], value, low=low, high=high)


def _level(drift: Drift) -> EvidenceFigure:
    """Return where the figure is now and where it was; of a file system, when it is full."""
    if drift.word != "storage-forecast":
        return figure(drift.word, drift.now, before=drift.level, since=drift.since_day)
    low, high = drift.full_between or (drift.until_day, drift.until_day)
    full_day = drift.full_day or low
    days = full_day - drift.until_day
    return figure("storage-forecast", days, date=full_day, low=low, high=high)


@finds("program-new")
def _new_programs(exam: Examination) -> list[Finding]:
    """Programs that were in no hour of the history, and are more than noticed now."""
    past, series = exam.past, exam.series
    if past is None:
        return []
    least_cores, least_bytes = exam.limits.findings.new_cores, exam.limits.findings.new_bytes
    findings = []
    for application in exam.applications:
        if application.kernel or application.observer or application.name in past.programs:
            continue
        cores = float(application.cores.mean())
        held = float(application.private_bytes.median() or 0.0)
        if cores >= least_cores or held >= least_bytes:
            evidence = [
                figure("program-new", float(past.days)),
                figure("app-cores", cores, of=series.machine.logical_processors),
            ]
            findings.append(Finding("program-new", "note", application.name, evidence, application))
    return findings
