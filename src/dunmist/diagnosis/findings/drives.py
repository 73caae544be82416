"""Findings of what drives say of their own health.

A drive that calls itself failing will probably fail; one that does not may fail all the same.
"""

from dunmist.computer import DriveHealth
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.records import EvidenceFigure, Finding, figure
from dunmist.diagnosis.words import EvidenceKey
from dunmist.thresholds.disks import DriveLimits

# the kind of loss, and its evidence key
LOST: dict[str, EvidenceKey] = {
    "pending": "drive-pending",
    "uncorrectable": "drive-uncorrectable",
    "media_errors": "drive-media-errors",
}


@finds("drive-warns", "drive-worn", "drive-cable")
def _drives(exam: Examination) -> list[Finding]:
    last, table = exam.series.surveyed.last, exam.limits.drives
    findings = []
    for drive in last.drives if last else []:
        failing, worn = _failing(drive, table), _worn(drive, table)
        if failing:
            findings.append(Finding("drive-warns", "urgent", drive.disk, [*failing, *worn]))
        elif worn:
            findings.append(Finding("drive-worn", "concern", drive.disk, worn))
        if (drive.interface_errors or 0) >= table.interface_errors:
            errors = figure("drive-interface", float(drive.interface_errors or 0))
            findings.append(Finding("drive-cable", "note", drive.disk, [errors]))
    return findings


def _failing(drive: DriveHealth, table: DriveLimits) -> list[EvidenceFigure]:
    """Return the evidence that a drive will probably fail, its own report first."""
    evidence = []
    if drive.fails:
        evidence.append(figure("drive-fails", 1.0))
    if drive.warnings:
        evidence.append(figure("drive-warning", 1.0, what=list(drive.warnings)))
    if drive.below_threshold:
        numbers = [str(number) for number in drive.below_threshold]
        evidence.append(figure("drive-below", float(len(numbers)), which=numbers))
    lost = [
        figure(key, float(count))
        for field, key in LOST.items()
        if (count := getattr(drive, field) or 0) >= table.lost_sectors
    ]
    return [*evidence, *lost]


def _worn(drive: DriveHealth, table: DriveLimits) -> list[EvidenceFigure]:
    """Return the evidence that a drive is near the end of its life."""
    evidence = []
    if (drive.used_percent or 0) >= table.used_percent:
        evidence.append(figure("drive-used", float(drive.used_percent or 0) / 100.0))
    if (drive.reallocated or 0) >= table.reallocated:
        evidence.append(figure("drive-reallocated", float(drive.reallocated or 0)))
    if evidence and drive.hours is not None:
        evidence.append(figure("drive-age", drive.hours * 3600.0))
    return evidence
