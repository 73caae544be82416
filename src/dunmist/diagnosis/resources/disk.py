"""Resource ``disk``: every physical disk on its own.

A busy disk limits only if a task waits for it, its heaviest user included. A task that waits for
most of the time is held up, even if no counter calls the disk full. One that takes many times as
long as a request of its size needs repeats its work: that is the disk's fault and no program's.
"""

from typing import NamedTuple

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.io_wait import find_io_wait
from dunmist.diagnosis.records import EvidenceFigure, figure
from dunmist.diagnosis.resources.declared import (
    NOTHING,
    Demand,
    Resource,
    ResourceInstance,
    Saving,
    shares_of,
    traffic_coverage,
)
from dunmist.diagnosis.words import EvidenceKey
from dunmist.series import DiskSeries, Rate, waits_elsewhere
from dunmist.thresholds.levels import disk_levels


class HeldUp(NamedTuple):
    """The share of time in which somebody waited for a disk, and its key."""

    share: Rate
    key: EvidenceKey


class SlowDisk(NamedTuple):
    """A disk that is slow by itself, and what tells so."""

    disk: DiskSeries
    evidence: list[EvidenceFigure]


def find_held_up(exam: Examination) -> HeldUp:
    """Return the share of time in which tasks waited for disks.

    A task that waits for its own requests counts, too. Stall accounting covers waits for requests,
    not those for a journal's commit or for write-back: the figure that lasts higher counts.
    """
    waiting, stalled = exam.once(find_io_wait), exam.series.machine.stalled.get("io")
    measured = HeldUp(
        waiting.total(exam).between(0.0, 1.0),
        "disk-held-up-tasks" if waiting.accounted else "disk-held-up-seen",
    )
    if stalled is None:
        return measured
    # a state is one sample: several say how often a task waited
    measured = measured._replace(share=measured.share.over(exam.limits.disk.seen_window_s))
    share = exam.typical(measured.share)
    lasts = share > exam.typical(stalled) and share >= exam.limits.disk.strained_held_up
    # a process that waits for a remote disk waits for none of these
    return measured if lasts and not _waits_elsewhere(exam) else HeldUp(stalled, "disk-held-up")


def _waits_elsewhere(exam: Examination) -> bool:
    return any(
        process.last is not None and waits_elsewhere(process.last.waits_in)
        for process in exam.series.living.values()
    )


def _instances(exam: Examination) -> list[ResourceInstance]:
    return [_instance(exam, disk) for disk in exam.series.devices.physical_disks]


def _instance(exam: Examination, disk: DiskSeries) -> ResourceInstance:
    table, held_up = exam.limits.disk, exam.once(find_held_up)
    # others may wait for another disk: what is idle holds up nobody
    is_idle = exam.typical(disk.busy) < table.busy
    return ResourceInstance(
        disk.name,
        disk.busy,
        held_up.share,
        disk_levels(disk.busy, disk.queue, held_up.share, table),
        _evidence(exam, disk),
        pressure_value=0.0 if is_idle else None,
    )


def _evidence(exam: Examination, disk: DiskSeries) -> list[EvidenceFigure]:
    held_up = exam.once(find_held_up)
    used, latency_s = exam.typical(disk.busy), exam.typical(disk.latency_s)
    pressure = exam.typical(held_up.share) if used >= exam.limits.disk.busy else 0.0
    evidence = [
        figure("disk-busy", used, name=disk.name),
        figure("disk-moved", disk.bytes_per_s.mean()),
        figure("disk-queue", disk.queue.mean()),
    ]
    if latency_s > 0:
        evidence.append(figure("disk-latency", latency_s))
    return [*evidence, figure(held_up.key, pressure)]


def find_slow_disks(exam: Examination) -> list[SlowDisk]:
    """Return the disks that are busy all the time and need far too long for each request."""
    disks = exam.series.devices.physical_disks
    return [SlowDisk(disk, _evidence(exam, disk)) for disk in disks if _is_slow(exam, disk)]


def _is_slow(exam: Examination, disk: DiskSeries) -> bool:
    table, needs = exam.limits.disk, exam.limits.of_disk(disk.kind)
    # a queue makes each request slow: what one takes by itself is what counts
    alone_s = exam.typical(disk.latency_s) / max(1.0, disk.queue.mean())
    size_bytes = disk.bytes_per_s.mean() / max(disk.requests_per_s.mean(), NOTHING)
    # a large request may take longer
    slow_s = needs.slow_s + table.slow_times * size_bytes / needs.bytes_per_s
    return exam.typical(disk.busy) >= table.strained_used and alone_s >= slow_s


def disk_demand(exam: Examination) -> Demand:
    """Return the bytes of each application, and its part in the disks' service time.

    Small requests all over a disk keep it busy with few bytes. How large requests were is known of
    the disks only, of each direction by itself; what counts is what went on while a disk was busy.
    """
    disks, line = exam.series.devices.physical_disks, exam.series.line
    has = [application.disk_bytes_per_s for application in exam.applications]
    if not disks:
        return Demand(has, Rate.total_of(line, has), "bytes/s", shares_of([0.0 for _ in has]))
    whole = Rate.total_of(line, [disk.bytes_per_s.known_or(0.0) for disk in disks])
    busy = Rate.greatest_of([disk.busy for disk in disks]).at_least(exam.limits.disk.busy)
    counts = busy if busy.total() > 0 else busy * 0.0 + 1.0
    read_s, written_s = _seconds_per_byte(exam, disks, counts)
    needed_s = [
        (application.read_bytes_per_s * counts).total() * read_s
        + (application.write_bytes_per_s * counts).total() * written_s
        for application in exam.applications
    ]
    return Demand(has, whole, "bytes/s", shares_of(needed_s))


def _seconds_per_byte(
    exam: Examination, disks: list[DiskSeries], counts: Rate
) -> tuple[float, float]:
    """Return the service time of a byte read and a byte written, access time included."""
    busiest = max(disks, key=lambda disk: exam.typical(disk.busy))
    needs = exam.limits.of_disk(busiest.kind)
    ways = (
        (busiest.reads_per_s, busiest.read_bytes_per_s),
        (busiest.writes_per_s, busiest.write_bytes_per_s),
    )
    read_s, written_s = (
        1.0 / needs.bytes_per_s
        + needs.access_s * (requests * counts).total() / max((moved * counts).total(), 1.0)
        for requests, moved in ways
    )
    return read_s, written_s


def _coverage(exam: Examination) -> float | None:
    """Return the share of what disks moved that processes read or caused to be written."""
    moved = [disk.bytes_per_s for disk in exam.series.devices.physical_disks]
    return traffic_coverage(
        exam, moved, [application.disk_bytes_per_s for application in exam.applications]
    )


DISK = Resource(
    "disk",
    2,
    _instances,
    disk_demand,
    Saving("disk", lambda application: application.disk_bytes_per_s.mean(), "bytes/s"),
    _coverage,
    follows_at_once=True,
)
