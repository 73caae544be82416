"""The way from a capture file to its triage, for the commands that need all of it."""

from pathlib import Path
from typing import NamedTuple

from dunmist.advice import Triage, compose_triage
from dunmist.diagnosis import Diagnosis, diagnose
from dunmist.series import Series, load_series


class Judged(NamedTuple):
    """A capture's series with what was found in them."""

    series: Series
    diagnosis: Diagnosis
    triage: Triage


def judge(path: Path) -> Judged:
    """Return everything known about a capture; raises CaptureError."""
    series = load_series(path)
    diagnosis = diagnose(series)
    return Judged(series, diagnosis, compose_triage(series, diagnosis))
