"""Findings about the computer as a whole."""

import numpy as np

from dunmist.diagnosis.known import Known
from dunmist.diagnosis.records import Finding, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.series import Series


def machine_findings(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    """Return them."""
    del known
    return [*_uptime(series, limits), *_clock(series), *_tasks(series, limits)]


def _tasks(series: Series, limits: Thresholds) -> list[Finding]:
    most, tasks = series.header.inventory.tasks_most, series.machine.tasks
    if not most or np.isnan(tasks).all():
        return []
    count = float(np.nanmax(tasks))
    if count / most < limits["findings"]["limit_near"]:
        return []
    sign = Sign("tasks", count, "threads", "/proc/loadavg", of=float(most))
    return [Finding("limit-near", "urgent", "the number of tasks", [sign])]


def _uptime(series: Series, limits: Thresholds) -> list[Finding]:
    uptime_s = series.machine.uptime_s
    if np.isnan(uptime_s):
        return []
    sign = Sign("uptime", uptime_s, "s", "/proc/uptime")
    if uptime_s < limits["findings"]["recent_restart_s"]:
        return [Finding("recent-restart", "note", "computer", [sign])]
    if uptime_s > limits["findings"]["long_uptime_s"]:
        return [Finding("long-uptime", "note", "computer", [sign])]
    return []


def _clock(series: Series) -> list[Finding]:
    survey = series.last_survey
    if survey is None or survey.time_sync is None or survey.time_sync.synchronised:
        return []
    sign = Sign("clock-error", survey.time_sync.greatest_error_s, "s", "adjtimex(2)")
    return [Finding("clock-unsynchronised", "note", "clock", [sign])]
