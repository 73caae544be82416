"""Findings about what starts by itself: services that come and go or are stuck, and logins."""

from collections import Counter

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.records import Finding, figure
from dunmist.diagnosis.strained_resources import application_finding
from dunmist.series import BETWEEN_STARTS, cost_of_entry

INIT_PID = 1


@finds("service-restarting")
def _restarting(exam: Examination) -> list[Finding]:
    """Services whose main program was restarted several times, or that say so themselves."""
    findings = []
    for application in exam.applications:
        if not (application.unit or "").endswith(".service"):
            continue
        programs = Counter(
            process.program.key
            for process in application.members
            if process.first_row > 0 and process.facts.ppid == INIT_PID
        )
        unit, surveyed = application.unit or "", exam.series.surveyed
        restarts = max(max(programs.values(), default=0), surveyed.restarts(unit))
        before = surveyed.restarts_in_all(unit)
        evidence = [figure("restarts", float(restarts))]
        if before > restarts:
            evidence.append(figure("restarts-in-all", float(before)))
        # a service that restarted often before, and does again now, restarts slowly
        goes_on = restarts > 0 and before >= exam.limits.findings.restarts_in_all
        if restarts >= exam.limits.findings.restarts or goes_on:
            findings.append(
                application_finding("service-restarting", "concern", application, evidence)
            )
    return findings


@finds("service-failed", "service-restarting")
def _failed(exam: Examination) -> list[Finding]:
    """Units that ended in failure and were given up, and those between two tries."""
    surveyed = exam.series.surveyed
    seen = {application.unit for application in exam.applications}
    findings = []
    for unit in surveyed.units:
        why = unit.result or "unknown"
        if unit.active == "failed":
            evidence = [figure("service-failed", 1.0, result=why)]
            findings.append(Finding("service-failed", "concern", unit.name, evidence))
        elif unit.sub == BETWEEN_STARTS and unit.name not in seen and unit.restarts:
            # all of its processes were too short-lived to be sampled
            evidence = [figure("restarts-in-all", float(unit.restarts))]
            findings.append(Finding("service-restarting", "concern", unit.name, evidence))
    return findings


@finds("service-stuck")
def _stuck(exam: Examination) -> list[Finding]:
    surveyed = exam.series.surveyed
    return [
        Finding(
            "service-stuck", "concern", unit.name, [figure("service-state", 1.0, state=unit.active)]
        )
        for unit in surveyed.units
        if surveyed.is_stuck(unit)
    ]


@finds("autostart-heavy")
def _autostart(exam: Examination) -> list[Finding]:
    table = exam.limits.findings
    applications = {
        process.application
        for entry in exam.series.surveyed.autostart
        if entry.enabled
        for process in cost_of_entry(exam.series, entry).processes
    }
    cores = [exam.typical(application.cores) for application in applications]
    busy = [used for used in cores if used >= table.steady_cores]
    too_few = len(busy) < table.autostart_least
    if too_few or sum(cores) / exam.processors < table.autostart_cores_share:
        return []
    evidence = [
        figure("autostart-cores", sum(cores), of=exam.processors),
        figure("autostart-count", float(len(busy))),
    ]
    return [Finding("autostart-heavy", "concern", None, evidence)]
