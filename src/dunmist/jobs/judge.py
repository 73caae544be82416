"""Judges a capture: the way from its file to its series, its diagnosis and its triage."""

import math
from collections.abc import Sequence
from datetime import datetime
from datetime import time as clock_time
from pathlib import Path

from dunmist.advice import Around, Judged, advise
from dunmist.captures import CaptureReader
from dunmist.diagnosis import Diagnosis, diagnose, load_thresholds, worst_window
from dunmist.errors import WrongUsage
from dunmist.jobs.past_of_capture import past_of_capture
from dunmist.jobs.settings import settings_directory, thresholds_path
from dunmist.output import STANDARD
from dunmist.series import WHOLE, Part, Series, load_corrections, load_series

# seconds after the first tick, or what the patient's clock said
PointInTime = float | clock_time
S_PER_DAY = 86_400.0
# a shorter incident is judged as a whole
INCIDENT_LEAST_S = 20.0

SENSORS = "sensors.toml"


def load(path: Path, part: Part = WHOLE) -> Series:
    """Return the series of a capture or a part of it, the user's corrections of sensors applied.

    Raises CaptureError and SettingsError.
    """
    return load_series(path, load_corrections(settings_directory() / SENSORS), part)


def judge(
    path: Path,
    complaints: Sequence[str] = (),
    part: Part = WHOLE,
    *,
    looks_for_bad_window: bool = True,
    history: Path | None = None,
) -> Judged:
    """Return everything known about a capture; raises CaptureError and SettingsError.

    ``complaints`` are answered instead of those that the capture has. Of a long capture that was
    bad in one window only, that window is judged; ``part`` says which one outright.
    ``history`` is used in place of the history of this computer; raises HistoryError then.
    """
    if part == WHOLE:
        part = incident_part(path)
    series = load(path, part)
    limits = load_thresholds(thresholds_path())
    past = past_of_capture(series, history)
    diagnosis = diagnose(series, limits, past)
    if looks_for_bad_window and part == WHOLE and str(path) != STANDARD:
        window = worst_window(series, diagnosis)
        if window is not None:
            inside = load(path, window)
            partial = diagnose(inside, limits, past)
            if partial.limiting is not None:
                return advise(inside, partial, complaints, Around(series, diagnosis))
    return advise(series, diagnosis, complaints)


def examined(path: Path) -> Diagnosis:
    """Return the diagnosis of a capture, without texts; raises CaptureError and SettingsError."""
    return diagnose(load(path), load_thresholds(thresholds_path()))


def incident_part(path: Path) -> Part:
    """Return the part of a capture that it was kept for; the whole of one that was not."""
    if str(path) == STANDARD:
        return WHOLE
    with CaptureReader(path) as reader:
        mark, every_s = reader.header.incident, reader.header.plan.every_s
    if mark is None:
        return WHOLE
    # a short-lived state is judged with the intervals around it, and its last tick is included
    began_s = max(0.0, min(mark.began_s, mark.ended_s - INCIDENT_LEAST_S))
    return Part(began_s, mark.ended_s + every_s)


def part_of(path: Path, since: PointInTime | None, until: PointInTime | None) -> Part:
    """Return the part of a capture between two times; raises CaptureError, and WrongUsage."""
    if since is None and until is None:
        return WHOLE
    begin_s = 0.0 if since is None else _seconds(path, since)
    end_s = math.inf if until is None else _seconds(path, until)
    if end_s <= begin_s:
        raise WrongUsage("--until is not after --since; turn them round")
    return Part(begin_s, end_s)


def _seconds(path: Path, point: PointInTime) -> float:
    """Return a point in time in seconds after the first tick; a clock time is the patient's."""
    if not isinstance(point, clock_time):
        return point
    if str(path) == STANDARD:
        raise WrongUsage("a clock time needs a file; write how long after the beginning, as 5m")
    with CaptureReader(path) as reader:
        began = datetime.fromisoformat(reader.header.started)
        planned_s = reader.header.plan.duration_s
    meant = began.replace(hour=point.hour, minute=point.minute, second=point.second)
    after_s = (meant - began.replace(microsecond=0)).total_seconds()
    if after_s >= 0:
        return after_s
    # after midnight the clock starts at 0; what is no part of the capture then was before it
    return after_s + S_PER_DAY if after_s + S_PER_DAY <= planned_s else 0.0
