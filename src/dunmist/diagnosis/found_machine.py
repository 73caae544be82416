"""Findings about the computer as a whole."""

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import Finding, sign
from dunmist.diagnosis.strains import Strains


def _tasks(exam: Examination, strains: Strains) -> list[Finding]:
    del strains
    most, count = exam.series.header.inventory.tasks_most, exam.series.machine.tasks.greatest()
    if not most or count is None or count / most < exam.limits.findings.limit_near:
        return []
    return [Finding("limit-near", "urgent", None, [sign("tasks", count, of=float(most))])]


def _uptime(exam: Examination, strains: Strains) -> list[Finding]:
    del strains
    uptime_s, table = exam.series.machine.uptime_s, exam.limits.findings
    if uptime_s is None:
        return []
    signs = [sign("uptime", uptime_s)]
    if uptime_s < table.recent_restart_s:
        return [Finding("recent-restart", "note", None, signs)]
    if uptime_s > table.long_uptime_s:
        return [Finding("long-uptime", "note", None, signs)]
    return []


def _clock(exam: Examination, strains: Strains) -> list[Finding]:
    del strains
    survey = exam.series.surveyed.last
    if survey is None or survey.time_sync is None or survey.time_sync.synchronised:
        return []
    signs = [sign("clock-error", survey.time_sync.greatest_error_s)]
    keeper = exam.series.surveyed.time_keeper
    if keeper is not None:
        signs.append(sign("clock-service", 1.0, name=keeper))
    return [Finding("clock-unsynchronised", "note", None, signs)]


RULES = (_uptime, _clock, _tasks)
