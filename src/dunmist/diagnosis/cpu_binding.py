"""Find programs that may only run on some CPUs, and wait there while others idle.

Source: sched_setaffinity(2), cpuset(7). Somebody bound the program with such a call, by its unit or
by a CPU set of its container. The scheduler never moves it to a CPU that it may not use.
"""

from typing import NamedTuple

from dunmist.diagnosis.examination import Examination
from dunmist.series import Application, Process, Rate


class Binding(NamedTuple):
    """One bound application: the fewest CPUs of a process of it, and its bound processes."""

    application: Application
    cpus: int
    processes: list[Process]
    waiting: Rate  # tasks of them that waited for a CPU


def idle_cores(exam: Examination) -> float:
    """Return the idle logical CPUs, mean over the capture; what sampling used counts as idle."""
    own = sum(each.cores.mean() for each in exam.applications if each.observer)
    return max(0.0, exam.processors - exam.series.machine.busy_cores.mean() + own)


def find_bindings(exam: Examination) -> list[Binding]:
    """Return the bound applications that wait although CPUs idle, kernel tasks excluded."""
    table = exam.limits.findings
    if idle_cores(exam) < table.bound_idle_cores:
        return []
    bindings = []
    for application in exam.applications:
        processes = [each for each in application.members if _cpus(each, exam.processors)]
        if application.kernel or not processes:
            continue
        waiting = Rate.total_of(
            exam.series.line, [each.waiting.known_or(0.0) for each in processes]
        )
        if waiting.mean() >= table.bound_waiting:
            cpus = min(_cpus(each, exam.processors) for each in processes)
            bindings.append(Binding(application, cpus, processes, waiting))
    return bindings


def _cpus(process: Process, processors: float) -> int:
    """Return the number of CPUs that a process is bound to, 0 if it may use all."""
    cpus = process.detail.cpus if process.detail else None
    return cpus if cpus and cpus < processors else 0
