"""Find applications that run at real-time priority: every ordinary task waits for them.

Sources: sched(7), fields 40 and 41 of proc_pid_stat(5). A nice value means nothing to such a task.
"""

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import EvidenceFigure, figure
from dunmist.series import Application, Process
from dunmist.thresholds import Thresholds

# sched(7): first-in first-out, and round robin
REAL_TIME = (1, 2)


def real_time_process(application: Application, limits: Thresholds) -> Process | None:
    """Return the busiest process if it runs at real-time priority, else None."""
    busiest = max(application.members, key=lambda process: process.cpu_s, default=None)
    if busiest is None or application.kernel or busiest.facts.policy not in REAL_TIME:
        return None
    return busiest if application.cores.mean() >= limits.culprit.real_time_cores else None


def real_time_evidence(exam: Examination, application: Application) -> list[EvidenceFigure]:
    """Return the real-time priority of an application that uses CPU time, or nothing."""
    process = real_time_process(application, exam.limits)
    return [figure("app-real-time", float(process.facts.rt_priority))] if process else []
