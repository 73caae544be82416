"""A capture with all that was found in it: what every later room is handed."""

from typing import NamedTuple

from dunmist.advice.case import Cases
from dunmist.advice.compose import compose_triage
from dunmist.advice.triage import Triage
from dunmist.diagnosis import Diagnosis
from dunmist.series import Series


class Judged(NamedTuple):
    """A capture's series, what was found in them, the case of each application, and the triage."""

    series: Series
    diagnosis: Diagnosis
    cases: Cases
    triage: Triage


def advise(series: Series, diagnosis: Diagnosis) -> Judged:
    """Return a diagnosis with its cases and its words."""
    cases = Cases(series, diagnosis)
    return Judged(series, diagnosis, cases, compose_triage(series, diagnosis, cases))
