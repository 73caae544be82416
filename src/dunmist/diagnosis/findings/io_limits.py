"""Findings about services that wait for the I/O limit of their control group."""

from collections.abc import Iterator

from dunmist.applications import unit_or_path
from dunmist.computer import IoLimit
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.io_wait import find_io_wait
from dunmist.diagnosis.records import EvidenceFigure, Finding, figure
from dunmist.series import DiskSeries, Process, Rate


@finds("io-limited")
def _limited(exam: Examination) -> list[Finding]:
    """The tasks wait for storage, and move as much as the limit allows."""
    findings, waiting = [], exam.once(find_io_wait).tasks
    for limit in exam.series.surveyed.io_limits:
        members = [
            process for process in exam.series.processes.values() if process.is_in(limit.path)
        ]
        waits = sum(
            waiting[number].mean() for number in {each.application.number for each in members}
        )
        disk = next((each for each in exam.series.devices.disks if each.name == limit.disk), None)
        if disk is not None and exam.typical(disk.busy) >= exam.limits.disk.busy:
            continue  # the disk itself is slower than the limit
        reached = list(_reached(exam, limit, members, disk))
        if reached and waits >= exam.limits.findings.blocked_share:
            evidence = [*reached, figure("group-io-waiting", waits)]
            findings.append(Finding("io-limited", "concern", unit_or_path(limit.path), evidence))
    return findings


def _reached(
    exam: Examination, limit: IoLimit, members: list[Process], disk: DiskSeries | None
) -> Iterator[EvidenceFigure]:
    """Yield the figures that are at their limit: bytes of the group, and requests of the disk."""
    line, near = exam.series.line, exam.limits.findings.io_limit_near
    read = Rate.total_of(line, [each.read_bytes_per_s.known_or(0.0) for each in members]).mean()
    written = Rate.total_of(line, [each.write_bytes_per_s.known_or(0.0) for each in members]).mean()
    if limit.read_bytes_per_s and read >= near * limit.read_bytes_per_s:
        yield figure("group-reads", read, of=float(limit.read_bytes_per_s), name=limit.disk)
    if limit.write_bytes_per_s and written >= near * limit.write_bytes_per_s:
        yield figure("group-writes", written, of=float(limit.write_bytes_per_s), name=limit.disk)
    if disk is None:
        return
    for most, requests in (
        (limit.reads_per_s, disk.reads_per_s),
        (limit.writes_per_s, disk.writes_per_s),
    ):
        if most and requests.mean() >= near * most:
            yield figure("group-requests", requests.mean(), of=float(most), name=limit.disk)
