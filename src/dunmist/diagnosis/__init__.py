"""Judges a capture: which resource limits, who drives it, what else is wrong, how sure that is.

Takes series, gives a ``Diagnosis`` of figures and keys. It knows no wording and no format, and
never looks at what a program is called.
"""

from dunmist.diagnosis.bad_windows import worst_window
from dunmist.diagnosis.coverage import attributed_cpu_s
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.applications import is_odd_place, name_shape
from dunmist.diagnosis.findings.heat import held_share, hours_left
from dunmist.diagnosis.judge import diagnose
from dunmist.diagnosis.records import (
    AlsoStrained,
    Culprit,
    Diagnosis,
    Finding,
    ResourceState,
    Sign,
    Slot,
    Trace,
    sign,
)
from dunmist.diagnosis.resources import BY_WORD as RESOURCE_BY_WORD
from dunmist.diagnosis.resources import RESOURCES, Demand
from dunmist.diagnosis.savings import Freed, FreedUnit, savings_of
from dunmist.diagnosis.stopping_rule import is_decided
from dunmist.diagnosis.thresholds import Thresholds, load_thresholds, thresholds
from dunmist.diagnosis.thresholds.comparing import CompareLimits, ProveLimits
from dunmist.diagnosis.words import (
    KINDS,
    LEVELS,
    ROLES,
    Kind,
    LevelWord,
    ResourceWord,
    Role,
    Severity,
    is_strained,
)

__all__ = [
    "KINDS",
    "LEVELS",
    "RESOURCES",
    "RESOURCE_BY_WORD",
    "ROLES",
    "AlsoStrained",
    "CompareLimits",
    "Culprit",
    "Demand",
    "Diagnosis",
    "Examination",
    "Finding",
    "Freed",
    "FreedUnit",
    "Kind",
    "LevelWord",
    "ProveLimits",
    "ResourceState",
    "ResourceWord",
    "Role",
    "Severity",
    "Sign",
    "Slot",
    "Thresholds",
    "Trace",
    "attributed_cpu_s",
    "diagnose",
    "held_share",
    "hours_left",
    "is_decided",
    "is_odd_place",
    "is_strained",
    "load_thresholds",
    "name_shape",
    "savings_of",
    "sign",
    "thresholds",
    "worst_window",
]
