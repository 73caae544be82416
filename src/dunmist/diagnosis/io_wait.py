"""Estimate how many tasks of each application waited for storage, on every kernel.

Where the kernel accounts the delays of each task (sysctl kernel.task_delayacct, usually off) they
tell it exactly. Else the state of each process at the ticks is used. A process that waits at every
third tick waits for a third of the time, within the error of a sample.
"""

from typing import NamedTuple

from dunmist.diagnosis.examination import Examination
from dunmist.series import Rate

# process states that concern storage; pages that come back are read from it, too
SEEN_WAITING = ("storage", "pages")


class StorageWaiting(NamedTuple):
    """Mean number of waiting tasks by number of application, and whether it is accounted."""

    tasks: dict[int, Rate]
    accounted: bool

    def total(self, exam: Examination) -> Rate:
        """Return that of all together."""
        return Rate.total_of(exam.series.line, self.tasks.values())


def find_io_wait(exam: Examination) -> StorageWaiting:
    """Return the tasks that waited for storage."""
    accounted = {application.number: application.io_waiting for application in exam.applications}
    # without accounting all are 0, which says nothing
    if any(rate.total() > 0 for rate in accounted.values()):
        return StorageWaiting(accounted, accounted=True)
    line = exam.series.line
    seen = {
        application.number: Rate.total_of(
            line,
            [
                application.blocked[kind].at_ends().known_or(0.0)
                for kind in SEEN_WAITING
                if kind in application.blocked
            ],
        )
        for application in exam.applications
    }
    return StorageWaiting(seen, accounted=False)
