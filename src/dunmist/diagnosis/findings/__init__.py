"""Find everything that is wrong or notable, each by one small rule.

A rule is a function that ``finds`` registers. ``SUBJECTS`` lists their modules in the order in
which findings of one severity are reported.
"""

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings import (
    applications,
    cpu,
    cpu_binding,
    devices,
    drives,
    heat,
    history,
    io_limits,
    kernel_messages,
    machine,
    memory,
    processes,
    reach,
    services,
    unowned_memory,
)
from dunmist.diagnosis.findings.rules import rules_of
from dunmist.diagnosis.records import Finding, ResourceState
from dunmist.diagnosis.strained_resources import StrainedResources
from dunmist.diagnosis.words import SEVERITIES

SUBJECTS = (
    cpu,
    cpu_binding,
    memory,
    unowned_memory,
    devices,
    io_limits,
    reach,
    heat,
    processes,
    services,
    applications,
    machine,
    kernel_messages,
    drives,
    history,
)
RULES = tuple(rule for subject in SUBJECTS for rule in rules_of(subject))


def find_findings(exam: Examination, states: list[ResourceState]) -> list[Finding]:
    """Return all findings, the most severe first."""
    strained = StrainedResources(states)
    findings = [finding for rule in RULES for finding in rule.findings(exam, strained)]
    return sorted(findings, key=lambda finding: -SEVERITIES.index(finding.severity))
