"""Judges a capture: which resource limits, who drives it, what else is wrong, how sure that is.

Takes series, gives a ``Diagnosis`` of figures and keys. It knows no wording and no format, and
never looks at what a program is called.
"""

from dunmist.diagnosis.bad_windows import worst_window as worst_window
from dunmist.diagnosis.examination import Examination as Examination
from dunmist.diagnosis.findings.applications import is_unusual_path as is_unusual_path
from dunmist.diagnosis.findings.applications import name_shape as name_shape
from dunmist.diagnosis.findings.heat import held_share as held_share
from dunmist.diagnosis.findings.heat import hours_left as hours_left
from dunmist.diagnosis.judge import diagnose as diagnose
from dunmist.diagnosis.local_clients import CLIENT_EVIDENCE as CLIENT_EVIDENCE
from dunmist.diagnosis.real_time import real_time_process as real_time_process
from dunmist.diagnosis.records import AlsoStrained as AlsoStrained
from dunmist.diagnosis.records import Culprit as Culprit
from dunmist.diagnosis.records import Diagnosis as Diagnosis
from dunmist.diagnosis.records import EvidenceFigure as EvidenceFigure
from dunmist.diagnosis.records import Finding as Finding
from dunmist.diagnosis.records import Freed as Freed
from dunmist.diagnosis.records import Onset as Onset
from dunmist.diagnosis.records import ResourceState as ResourceState
from dunmist.diagnosis.records import Slot as Slot
from dunmist.diagnosis.records import Trace as Trace
from dunmist.diagnosis.records import figure as figure
from dunmist.diagnosis.resources import RESOURCE_BY_WORD as RESOURCE_BY_WORD
from dunmist.diagnosis.resources import RESOURCES as RESOURCES
from dunmist.diagnosis.resources import Demand as Demand
from dunmist.diagnosis.resources import attributed_cpu_s as attributed_cpu_s
from dunmist.diagnosis.resources import savings_of as savings_of
from dunmist.diagnosis.started_programs import main_started_programs as main_started_programs
from dunmist.diagnosis.stopping_rule import is_decided as is_decided
from dunmist.diagnosis.words import KINDS as KINDS
from dunmist.diagnosis.words import LEVELS as LEVELS
from dunmist.diagnosis.words import ROLES as ROLES
from dunmist.diagnosis.words import FreedUnit as FreedUnit
from dunmist.diagnosis.words import Kind as Kind
from dunmist.diagnosis.words import LevelWord as LevelWord
from dunmist.diagnosis.words import ResourceWord as ResourceWord
from dunmist.diagnosis.words import Role as Role
from dunmist.diagnosis.words import Severity as Severity
from dunmist.diagnosis.words import is_strained as is_strained
from dunmist.thresholds import Thresholds as Thresholds
from dunmist.thresholds import load_thresholds as load_thresholds
from dunmist.thresholds import thresholds as thresholds
from dunmist.thresholds.comparing import CompareLimits as CompareLimits
from dunmist.thresholds.comparing import ProveLimits as ProveLimits
