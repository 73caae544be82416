"""All findings: each by one small rule with its figure in the table.

``RULES`` is the list of rules; a new one is a function that takes what is known and gives findings.
"""

from collections.abc import Callable

from dunmist.diagnosis import (
    found_applications,
    found_complaints,
    found_devices,
    found_drives,
    found_heat,
    found_machine,
    found_memory,
    found_processes,
    found_processors,
    found_services,
)
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import Finding, ResourceState
from dunmist.diagnosis.strains import Strains
from dunmist.diagnosis.words import SEVERITIES

Rule = Callable[[Examination, Strains], list[Finding]]
RULES: tuple[Rule, ...] = (
    *found_processors.RULES,
    *found_memory.RULES,
    *found_devices.RULES,
    *found_heat.RULES,
    *found_processes.RULES,
    *found_services.RULES,
    *found_applications.RULES,
    *found_machine.RULES,
    *found_complaints.RULES,
    *found_drives.RULES,
)


def find_findings(exam: Examination, states: list[ResourceState]) -> list[Finding]:
    """Return all findings, the most severe first."""
    strains = Strains(states)
    found = [finding for rule in RULES for finding in rule(exam, strains)]
    return sorted(found, key=lambda finding: -SEVERITIES.index(finding.severity))
