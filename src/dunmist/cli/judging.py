"""The way from a capture file to its series and its triage, for the commands that need them."""

from pathlib import Path
from typing import NamedTuple

from dunmist.advice import Triage, compose_triage
from dunmist.cli.settings import settings_directory
from dunmist.diagnosis import Diagnosis, diagnose, load_thresholds
from dunmist.series import Series, load_corrections, load_series


class Judged(NamedTuple):
    """A capture's series with what was found in them."""

    series: Series
    diagnosis: Diagnosis
    triage: Triage


def load(path: Path) -> Series:
    """Return a capture's series, the user's corrections of sensors applied.

    Raises CaptureError and SettingsError.
    """
    return load_series(path, load_corrections(settings_directory() / "sensors.toml"))


def judge(path: Path) -> Judged:
    """Return everything known about a capture; raises CaptureError and SettingsError."""
    series = load(path)
    diagnosis = diagnose(series, load_thresholds(settings_directory() / "thresholds.toml"))
    return Judged(series, diagnosis, compose_triage(series, diagnosis))
