"""Find the programs that an application starts again and again, and their part of its work.

A shell in a loop, a build or a job server is the handle, and does little itself: who asks what the
computer is busy with wants to hear of the programs that it starts.
"""

from collections import Counter, defaultdict
from typing import NamedTuple

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import EvidenceFigure, figure
from dunmist.series import Application
from dunmist.thresholds import Thresholds

NAMES_SHOWN = 3


class StartedPrograms(NamedTuple):
    """Programs that one application started and that were soon gone."""

    names: list[str]  # programs by CPU time, then by number of starts
    starts: int
    share: float  # of the CPU time of the application, children that were never seen included


def started_programs(application: Application) -> StartedPrograms | None:
    """Return the programs that an application starts again and again; None if unknown."""
    counts = Counter(application.short_lived_programs)
    if not counts:
        return None
    used_s = defaultdict[str, float](float)
    if application.starts_generations:
        for process in application.members:
            if process.started_inside:
                used_s[process.name] += process.cpu_s
    return StartedPrograms(
        names=sorted(counts, key=lambda name: (-used_s[name], -counts[name]))[:NAMES_SHOWN],
        starts=counts.total(),
        share=share_of_started(application),
    )


def share_of_started(application: Application) -> float:
    """Return the part of its CPU time that programs used which it started during the capture."""
    used_s, whole_s = application.short_lived_cores.total(), application.cores.total()
    if application.starts_generations:
        used_s += sum(each.cpu_s for each in application.members if each.started_inside)
    return min(1.0, used_s / whole_s) if whole_s else 0.0


def main_started_programs(application: Application, limits: Thresholds) -> StartedPrograms | None:
    """Return the programs started again and again if they are most of its work, else None."""
    started = started_programs(application)
    return started if started and started.share >= limits.culprit.started_share else None


def started_evidence(exam: Examination, application: Application) -> list[EvidenceFigure]:
    """Return its rates of repeated starts; empty if they are a small part of its work."""
    started = started_programs(application)
    if started is None:
        return []
    if not (application.starts_generations or main_started_programs(application, exam.limits)):
        return []
    rate = started.starts / exam.series.duration_s
    return [figure("app-started", rate, which=list(started.names))]
