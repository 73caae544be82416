"""All findings: each by one small rule with its figure in the table."""

from dunmist.diagnosis.found_devices import device_findings
from dunmist.diagnosis.found_heat import heat_findings
from dunmist.diagnosis.found_machine import machine_findings
from dunmist.diagnosis.found_memory import memory_findings
from dunmist.diagnosis.found_processes import process_findings
from dunmist.diagnosis.found_processors import processor_findings
from dunmist.diagnosis.known import Known
from dunmist.diagnosis.records import Finding
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import SEVERITIES
from dunmist.series import Series

RULES = (
    processor_findings,
    memory_findings,
    device_findings,
    heat_findings,
    process_findings,
    machine_findings,
)


def find_findings(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    """Return all findings, the most severe first."""
    found = [finding for rule in RULES for finding in rule(series, known, limits)]
    return sorted(found, key=lambda finding: -SEVERITIES.index(finding.severity))
