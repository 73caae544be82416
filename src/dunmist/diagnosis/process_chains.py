"""Find applications whose processes follow each other on one CPU, as those of a script or a build.

Each process lives for a moment, so no thread of it fills a CPU for long. Together they do: the next
process starts when the one before it has exited.
"""

from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.cpu_yielding import find_yielding
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.quotas import quota_limited
from dunmist.diagnosis.started_programs import share_of_started
from dunmist.series import Application, Rate

RUNNING = "R"


class Chain(NamedTuple):
    """One application, and the share of a CPU that its processes used in each interval."""

    application: Application
    ran: Rate


def find_chains(exam: Examination) -> list[Chain]:
    """Return the applications whose processes run one after the other, and never several at once.

    Low-priority work and programs at the limit of their quota are left out.
    """
    table, limited, gives = exam.limits.core, exam.once(quota_limited), exam.once(find_yielding)
    chains = []
    for application in exam.applications:
        if application.kernel or application.observer or application.number in limited:
            continue
        if gives[application.number] >= exam.limits.cpu.low_priority_share:
            continue
        if application.cores.mean() < table.candidate_cores:
            continue
        if share_of_started(application) < exam.limits.culprit.started_share:
            continue
        ran = application.cores.over(table.least_s)
        above = ran.at_least(table.single_core_max).mean()
        if above <= table.seldom and _parallel_share(application) <= table.seldom:
            chains.append(Chain(application, ran))
    return chains


def _parallel_share(application: Application) -> float:
    """Return the share of the ticks at which several of its processes ran."""
    states = np.array([list(process.states) for process in application.members])
    return float(((states == RUNNING).sum(axis=0) > 1).mean())
