"""Find applications whose CPU quota runs out (cgroups(7), cpu.max).

The kernel counts them as waiting for a CPU, in stall accounting and in run-queue delay, also
while processors are free: such waiting says nothing of the CPUs.
"""

from typing import NamedTuple

from dunmist.diagnosis.examination import Examination


class Quota(NamedTuple):
    """A control group, the CPUs it may use, and how often that was not enough."""

    path: str
    cores: float
    limited: float


def find_quotas(exam: Examination) -> list[Quota]:
    """Return the control groups whose quota ran out in much of the time."""
    quotas = [
        Quota(group.path, group.quota_cores, exam.typical(group.limited))
        for group in exam.series.devices.groups
        if group.quota_cores is not None
    ]
    return [quota for quota in quotas if quota.limited >= exam.limits.findings.quota_limited]


def quota_limited(exam: Examination) -> set[int]:
    """Return the numbers of the applications that are in such a group."""
    paths = [quota.path for quota in exam.once(find_quotas)]
    return {
        application.number
        for application in exam.applications
        if any(process.is_in(path) for process in application.members for path in paths)
    }
