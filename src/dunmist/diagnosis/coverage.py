"""How much of what the kernel counted could be given to somebody."""

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.words import ResourceWord
from dunmist.series import Rate, Series


def find_coverage(exam: Examination) -> dict[ResourceWord, float | None]:
    """Return the attributed share of each resource; None where nothing was sampled or moved.

    CPU time: that of processes, of short-lived children and of interrupts, against what the
    kernel counted busy. Memory: private pages of processes against the kernel's anonymous ones.
    Disk: bytes that processes read and caused to be written against those that disks moved. Link:
    bytes over TCP with other computers against those that links carried.
    """
    return {"cpu": _cpu(exam), "memory": _memory(exam), "disk": _disk(exam), "link": _link(exam)}


def attributed_cpu_s(series: Series) -> tuple[float, float]:
    """Return processor seconds attributed to somebody, and those that the kernel counted busy.

    The kernel counts the second by looking at each clock tick who runs, and the first exactly, so
    that over a short capture the first may be the greater.
    """
    machine = series.machine
    attributed_s = sum(application.cores.total() for application in series.applications)
    return attributed_s + machine.interrupt_cores.total(), machine.busy_cores.total()


def _cpu(exam: Examination) -> float | None:
    attributed_s, counted_s = attributed_cpu_s(exam.series)
    if counted_s < exam.limits.coverage.cpu_least_s:
        return None
    return min(1.0, attributed_s / counted_s)


def _memory(exam: Examination) -> float | None:
    anonymous = exam.series.machine.memory_bytes("AnonPages")
    if (anonymous.greatest() or 0.0) <= 0:
        return None
    held = [application.private_bytes for application in exam.applications]
    share = type(anonymous).total_of(anonymous.line, held) / anonymous.between(1.0, float("inf"))
    median = share.median()
    return None if median is None else min(1.0, median)


def _disk(exam: Examination) -> float | None:
    moved = [disk.bytes_per_s for disk in exam.series.devices.physical_disks]
    return _traffic(
        exam, moved, [application.disk_bytes_per_s for application in exam.applications]
    )


def _link(exam: Examination) -> float | None:
    links = exam.series.devices.outward_links
    # what a tunnel or a bridge carries is carried by the link below it once more
    physical = [link for link in links if link.about and link.about.physical] or links
    moved = [link.received_bytes_per_s + link.sent_bytes_per_s for link in physical]
    return _traffic(
        exam, moved, [application.network_bytes_per_s for application in exam.applications]
    )


def _traffic(exam: Examination, moved: list[Rate], attributed: list[Rate]) -> float | None:
    total = sum(rate.total() for rate in moved)
    if total < exam.limits.coverage.traffic_least_bytes:
        return None
    return min(1.0, sum(rate.total() for rate in attributed) / total)
