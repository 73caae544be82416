"""Find everything that is wrong or notable, each by one small rule.

``RULES`` lists the rules, a module for each subject. A rule takes the examination and the strained
resources and returns findings.
"""

from collections.abc import Callable

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings import (
    applications,
    cpu,
    devices,
    drives,
    heat,
    kernel_messages,
    machine,
    memory,
    processes,
    services,
)
from dunmist.diagnosis.records import Finding, ResourceState
from dunmist.diagnosis.strained_resources import StrainedResources
from dunmist.diagnosis.words import SEVERITIES

Rule = Callable[[Examination, StrainedResources], list[Finding]]
RULES: tuple[Rule, ...] = (
    *cpu.RULES,
    *memory.RULES,
    *devices.RULES,
    *heat.RULES,
    *processes.RULES,
    *services.RULES,
    *applications.RULES,
    *machine.RULES,
    *kernel_messages.RULES,
    *drives.RULES,
)


def find_findings(exam: Examination, states: list[ResourceState]) -> list[Finding]:
    """Return all findings, the most severe first."""
    strained = StrainedResources(states)
    findings = [finding for rule in RULES for finding in rule(exam, strained)]
    return sorted(findings, key=lambda finding: -SEVERITIES.index(finding.severity))
