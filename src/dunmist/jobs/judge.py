"""Judges a capture: the way from its file to its series, its diagnosis and its triage."""

from collections.abc import Sequence
from pathlib import Path

from dunmist.advice import Judged, advise
from dunmist.diagnosis import diagnose, load_thresholds
from dunmist.jobs.settings import settings_directory
from dunmist.series import Series, load_corrections, load_series

SENSORS, THRESHOLDS = "sensors.toml", "thresholds.toml"


def load(path: Path) -> Series:
    """Return a capture's series, the user's corrections of sensors applied.

    Raises CaptureError and SettingsError.
    """
    return load_series(path, load_corrections(settings_directory() / SENSORS))


def judge(path: Path, complaints: Sequence[str] = ()) -> Judged:
    """Return everything known about a capture; raises CaptureError and SettingsError.

    ``complaints`` are answered instead of those that the capture has.
    """
    series = load(path)
    diagnosis = diagnose(series, load_thresholds(settings_directory() / THRESHOLDS))
    return advise(series, diagnosis, complaints)
