"""Find applications that give way to others while CPU time is short, and by how much.

A raised nice value gives way to the tasks of the same scheduling group only; groups share by their
own weights (sched(7), ``computer/scheduling.py``). Work at nice 19 that has a group of its own
takes as much as anybody, and is to blame like anybody.
"""

from typing import NamedTuple

from dunmist.diagnosis.examination import Examination
from dunmist.series import Application, Process


class SchedulingGroup(NamedTuple):
    """The scheduling group of a process: which kind, and which one."""

    kind: str
    name: str


# sched(7): a task of this class runs when nothing else wants to
SCHED_IDLE = 5
EVERYBODY = SchedulingGroup("everybody", "")


def find_yielding(exam: Examination) -> dict[int, float]:
    """Return by number the share of its CPU time with which an application gives way."""
    table = exam.limits.cpu
    wanted = {
        application.number: application.cores.mean() + application.waiting.mean()
        for application in exam.applications
    }
    ordinary = [
        application
        for application in exam.applications
        if application.low_priority < table.low_priority_share
        and wanted[application.number] >= table.competes_cores
    ]
    wanted_in: dict[SchedulingGroup, float] = {}
    for other in ordinary:
        group = _scheduling_group(exam, other)
        wanted_in[group] = wanted_in.get(group, 0.0) + wanted[other.number]
    numbers, in_all = {other.number for other in ordinary}, sum(wanted_in.values())
    yielding = {}
    for application in exam.applications:
        if _is_light(exam, application):
            yielding[application.number] = 1.0
            continue
        if not application.low_priority:
            yielding[application.number] = 0.0
            continue
        # it does not give way to itself
        own = wanted[application.number] if application.number in numbers else 0.0
        whole = in_all - own
        others = wanted_in.get(_scheduling_group(exam, application), 0.0) - own
        alone = numbers <= {application.number}
        # to nobody in particular: what its nice value says
        yielding[application.number] = application.low_priority * (1.0 if alone else others / whole)
    return yielding


def _is_light(exam: Examination, application: Application) -> bool:
    """Whether it gives way to everybody: by its policy, or by the weight of its control group."""
    process = _busiest(application)
    if process is None:
        return False
    if process.facts.policy == SCHED_IDLE:
        return True
    group = exam.series.surveyed.scheduled(_path(process))
    if group is None:
        return False
    return group.idle or group.weight <= exam.limits.cpu.light_weight


def _scheduling_group(exam: Examination, application: Application) -> SchedulingGroup:
    process, surveyed = _busiest(application), exam.series.surveyed
    if process is None or application.kernel:
        return EVERYBODY
    group = surveyed.scheduled(_path(process))
    if group is not None and group.scheduled_in:
        return SchedulingGroup("group", group.scheduled_in)
    return (
        SchedulingGroup("session", str(process.facts.session)) if surveyed.autogroup else EVERYBODY
    )


def _busiest(application: Application) -> Process | None:
    return max(application.members, key=lambda process: process.cpu_s, default=None)


def _path(process: Process) -> str | None:
    return process.facts.cpu_cgroup or process.facts.cgroup
