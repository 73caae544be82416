"""Judges a capture: which resource limits, who drives it, what else is wrong, how sure that is.

Takes series, gives a ``Diagnosis`` of figures and keys. It knows no wording and no format, and
never looks at what a program is called.
"""

from dunmist.diagnosis.found_processes import is_odd_place
from dunmist.diagnosis.judge import diagnose
from dunmist.diagnosis.lasting import lasting
from dunmist.diagnosis.records import Culprit, Diagnosis, Finding, ResourceState, Sign, Trace
from dunmist.diagnosis.thresholds import Thresholds, load_thresholds, thresholds
from dunmist.diagnosis.words import (
    KINDS,
    LEVELS,
    Kind,
    Level,
    Resource,
    Role,
    Severity,
    is_strained,
)

__all__ = [
    "KINDS",
    "LEVELS",
    "Culprit",
    "Diagnosis",
    "Finding",
    "Kind",
    "Level",
    "Resource",
    "ResourceState",
    "Role",
    "Severity",
    "Sign",
    "Thresholds",
    "Trace",
    "diagnose",
    "is_odd_place",
    "is_strained",
    "lasting",
    "load_thresholds",
    "thresholds",
]
