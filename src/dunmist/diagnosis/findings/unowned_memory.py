"""Findings about memory that no program holds for itself.

Sources: ``Documentation/filesystems/proc.rst`` on meminfo (Shmem, SUnreclaim, HugePages_Free),
``Documentation/filesystems/tmpfs.rst``, ``Documentation/admin-guide/mm/hugetlbpage.rst``. A file on
a tmpfs lies in memory or swap until it is deleted, whatever becomes of the program that wrote it.
"""

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.records import EvidenceFigure, Finding, figure
from dunmist.diagnosis.strained_resources import StrainedResources
from dunmist.diagnosis.words import Kind, Severity
from dunmist.series import Process

KIB = 1024.0
IN_MEMORY = "tmpfs"
POINTS_SHOWN = 3
# file systems that hold this part of the shared memory are what holds it
MOSTLY = 0.5
# bytes, the subject if it has a name, and the evidence
Unowned = tuple[float, str | None, list[EvidenceFigure]]


@finds("memory-in-files", "memory-shared", "memory-reserved", "memory-in-kernel")
def _unowned(exam: Examination, strained: StrainedResources) -> list[Finding]:
    """Memory of files, of an unused reserve or of the kernel that is a large part of all.

    Shared memory that lies on no mounted file system may be pictures of a graphics driver, which
    belong to programs: it is no cause by itself.
    """
    least_bytes = exam.limits.findings.unowned_memory * exam.series.machine.managed_bytes
    files = _files(exam)
    parts: dict[Kind, Unowned] = {
        "memory-in-files" if files[1] else "memory-shared": files,
        "memory-reserved": _reserved(exam),
        "memory-in-kernel": _kernel(exam),
    }
    findings = []
    for kind, (held_bytes, subject, evidence) in parts.items():
        if least_bytes and held_bytes >= least_bytes:
            severity = _severity(exam, held_bytes, strained)
            findings.append(Finding(kind, severity, subject, evidence))
    return findings


def _severity(exam: Examination, held_bytes: float, strained: StrainedResources) -> Severity:
    """Return 'urgent' if it explains the lack of memory: it is more than any application holds."""
    if not strained.has("memory"):
        memory = (state for state in strained.states if state.resource == "memory")
        return "note" if all(state.level == "calm" for state in memory) else "concern"
    most_bytes = max(
        (application.private_bytes.median() or 0.0 for application in exam.applications),
        default=0.0,
    )
    return "urgent" if held_bytes > most_bytes else "concern"


def _files(exam: Examination) -> Unowned:
    """Return the shared memory that no process maps, with the file systems that hold it."""
    machine = exam.series.machine
    shared_bytes = machine.memory_bytes("Shmem").last() or 0.0
    unmapped_bytes = max(0.0, shared_bytes - _mapped_bytes(exam))
    in_memory = sorted(
        (
            (float(each.used_bytes or 0), each.point)
            for each in exam.series.surveyed.storage
            if each.about.kind == IN_MEMORY
        ),
        reverse=True,
    )
    least_bytes = exam.limits.findings.unowned_part * unmapped_bytes
    named = [(used, point) for used, point in in_memory[:POINTS_SHOWN] if used >= least_bytes > 0]
    evidence = [figure("memory-unmapped", unmapped_bytes, of=machine.managed_bytes)]
    evidence += [figure("memory-files", used, name=point) for used, point in named]
    is_on_mounts = bool(named) and sum(used for used, _ in named) >= MOSTLY * unmapped_bytes
    return unmapped_bytes, named[0][1] if is_on_mounts else None, evidence


def _mapped_bytes(exam: Examination) -> float:
    """Return the shared memory that processes map: exact of the largest, at most of one other."""
    last = exam.series.surveyed.last
    exact = {rollup.process: rollup.shared_kib for rollup in (last.rollups if last else [])}
    known = {process: kib for process, kib in exact.items() if kib is not None}
    others = (
        _shared_bytes(process)
        for process in exam.series.processes.values()
        if process.identity not in known
    )
    return sum(known.values()) * KIB + max(others, default=0.0)


def _shared_bytes(process: Process) -> float:
    """Return the resident pages of files and of shared memory, which are counted together."""
    resident, private = process.rss_bytes.last(), process.private_bytes.last()
    return 0.0 if resident is None or private is None else resident - private


def _reserved(exam: Examination) -> Unowned:
    """Return the huge pages that are set apart, and that nobody uses."""
    machine = exam.series.machine
    # counts are kept as if they were KiB, like all other lines of meminfo
    pages = (machine.memory_bytes("HugePages_Free").last() or 0.0) / KIB
    held_bytes = pages * (machine.memory_bytes("Hugepagesize").last() or 0.0)
    evidence = [figure("memory-huge-free", held_bytes, of=machine.managed_bytes, pages=pages)]
    return held_bytes, None, evidence


def _kernel(exam: Examination) -> Unowned:
    """Return the objects of the kernel that it cannot give back."""
    machine = exam.series.machine
    held_bytes = machine.memory_bytes("SUnreclaim").last() or 0.0
    return held_bytes, None, [figure("memory-kernel", held_bytes, of=machine.managed_bytes)]
