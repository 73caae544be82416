"""Findings of what the kernel itself complained of in its log.

Each rule is a line of a table: which classes of complaints it counts, of what, and how grave they
are. How many there must be, and how lately, stands with the other figures.
"""

import re
from collections import defaultdict
from collections.abc import Sequence
from typing import Literal, NamedTuple

from dunmist.computer import Disk, KernelMessageKind
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.records import Finding, Onset, figure
from dunmist.diagnosis.words import EvidenceKey, Kind, Severity
from dunmist.series import KernelMessageSeries, Series

# evidence key of each class of message
EVIDENCE_OF: dict[KernelMessageKind, EvidenceKey] = {
    "medium-error": "kernel-medium-error",
    "io-error": "kernel-io-error",
    "drive-reset": "kernel-drive-reset",
    "file-system-error": "kernel-file-system-error",
    "file-system-read-only": "kernel-file-system-read-only",
    "machine-check": "kernel-machine-check",
    "memory-corrected": "kernel-memory-corrected",
    "memory-uncorrected": "kernel-memory-uncorrected",
    "bus-error": "kernel-bus-error",
    "heat-limit": "kernel-heat-limit",
    "out-of-memory": "kernel-out-of-memory",
    "memory-asked-for": "kernel-memory-asked-for",
    "hung-task": "kernel-hung-task",
    "processor-stuck": "kernel-processor-stuck",
    "kernel-fault": "kernel-kernel-fault",
    "graphics-reset": "kernel-graphics-reset",
    "usb-reset": "kernel-usb-reset",
    "device-came": "kernel-device-came",
    "device-went": "kernel-device-went",
    "over-current": "kernel-over-current",
    "network-link-down": "kernel-network-link-down",
    "transmit-stuck": "kernel-transmit-stuck",
    "crash": "kernel-crash",
    "firmware": "kernel-firmware",
}
_ATA = re.compile(r"ata\d+\Z")
# names of mapped devices and arrays in the kernel
_MAPPING = re.compile(r"(dm-|md)\d+\Z")
# errors that a drive reports
DRIVE_ERRORS: tuple[KernelMessageKind, ...] = ("medium-error", "io-error")
# a mapping lies on another one, as encryption on volumes on a mirror; more is a circle
MAPPINGS_MOST = 8


class MessageRule(NamedTuple):
    """A finding, the complaints that make it, and for what they count.

    Of a ``mapping`` are complaints about a mapped device whose drives have none themselves: the
    mapping refuses (encryption, a check of integrity, a snapshot that is full, a missing part). A
    medium error is one of a drive, which a mapping only hands on.
    """

    finding: Kind
    severity: Severity
    complaints: tuple[KernelMessageKind, ...]
    of: Literal["drive", "mapping", "subject", "computer"] = "subject"


TABLE: tuple[MessageRule, ...] = (
    MessageRule("drive-failing", "urgent", DRIVE_ERRORS, of="drive"),
    MessageRule("mapping-errors", "concern", ("io-error",), of="mapping"),
    MessageRule("drive-resets", "concern", ("drive-reset",), of="drive"),
    MessageRule("file-system-damaged", "urgent", ("file-system-error", "file-system-read-only")),
    MessageRule("memory-faulty", "urgent", ("memory-uncorrected",), of="computer"),
    MessageRule("memory-wearing", "concern", ("memory-corrected",), of="computer"),
    MessageRule("hardware-fault", "concern", ("machine-check", "bus-error"), of="computer"),
    MessageRule(
        "kernel-hung", "concern", ("processor-stuck", "kernel-fault", "hung-task"), of="computer"
    ),
    MessageRule("graphics-reset", "concern", ("graphics-reset",), of="computer"),
    MessageRule("port-overloaded", "concern", ("over-current",)),
    MessageRule("device-reconnects", "concern", ("usb-reset", "device-went")),
    MessageRule("link-flapping", "concern", ("network-link-down", "transmit-stuck")),
    MessageRule("program-crashes", "concern", ("crash",)),
    MessageRule("killed-earlier", "note", ("out-of-memory",), of="computer"),
    MessageRule("hot-earlier", "note", ("heat-limit",), of="computer"),
)


@finds(*(rule.finding for rule in TABLE))
def _complained(exam: Examination) -> list[Finding]:
    return [finding for rule in TABLE for finding in _of_rule(exam, rule)]


def _of_rule(exam: Examination, rule: MessageRule) -> list[Finding]:
    table = exam.limits.complaints[rule.finding]
    end_s = exam.series.duration_s
    recent = [
        complaint
        for complaint in exam.series.complaints
        if complaint.kind in rule.complaints and end_s - complaint.last_s <= table.within_s
    ]
    findings = []
    for subject, complaints in _by_subject(exam.series, recent, rule).items():
        if sum(complaint.times for complaint in complaints) < table.least:
            continue
        evidence = [
            figure(
                EVIDENCE_OF[complaint.kind],
                float(complaint.times),
                name=complaint.about,
                ago=max(0.0, end_s - complaint.last_s),
                line=complaint.text,
            )
            for complaint in complaints
        ]
        first_s = max(0.0, end_s - min(complaint.first_s for complaint in complaints))
        onset = Onset(None, first_s, exam.series.machine.uptime_s, "log")
        findings.append(Finding(rule.finding, rule.severity, subject, evidence, onset=onset))
    return findings


def _by_subject(
    series: Series, complaints: list[KernelMessageSeries], rule: MessageRule
) -> dict[str | None, list[KernelMessageSeries]]:
    """Return the complaints by what they count for under a rule; others are left out."""
    by_subject: dict[str | None, list[KernelMessageSeries]] = defaultdict(list)
    for complaint in complaints:
        about = complaint.about or ""
        if rule.of in ("drive", "mapping"):
            if _is_of_mapping(series, complaint) == (rule.of == "mapping"):
                by_subject[about if rule.of == "mapping" else _disk(series, about)].append(
                    complaint
                )
        else:
            by_subject[complaint.about if rule.of == "subject" else None].append(complaint)
    return by_subject


def _is_of_mapping(series: Series, complaint: KernelMessageSeries) -> bool:
    """Whether an error is a mapping's own: it may be that of a drive below, which has one too."""
    about = complaint.about or ""
    if complaint.kind != "io-error" or not _is_mapping(series, about):
        return False
    drive = _disk(series, about)
    return not any(
        other.kind in DRIVE_ERRORS
        and (other.kind != "io-error" or not _is_mapping(series, other.about or ""))
        and _disk(series, other.about or "") == drive
        for other in series.complaints
    )


def _is_mapping(series: Series, about: str) -> bool:
    """Whether a name is that of a device made of others; one may be gone by now."""
    disks = series.header.inventory.disks
    known = next((disk for disk in disks if disk.name == about), None)
    return bool(_MAPPING.match(about)) if known is None else bool(known.disks_below)


def _disk(series: Series, about: str) -> str:
    """Return the drive that a partition, a mapping, a controller or a port belongs to.

    What was named, where no drive is known or a mapping lies on several.
    """
    port = about.partition(".")[0]
    disks = series.header.inventory.disks
    for disk in disks:
        if about in (disk.name, disk.device, *disk.partitions) or (port and port == disk.port):
            return _drive_below(disk, disks, MAPPINGS_MOST)
    return port if _ATA.match(port) else about


def _drive_below(disk: Disk, disks: Sequence[Disk], depth: int) -> str:
    """Return the only drive below a mapped device; its own name where there is no such one."""
    below = [
        other
        for name in disk.disks_below
        for other in disks
        if name in (other.name, *other.partitions)
    ]
    if not depth or not below:
        return disk.name
    drives = {_drive_below(other, disks, depth - 1) for other in below}
    return drives.pop() if len(drives) == 1 else disk.name
