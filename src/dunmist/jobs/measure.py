"""Measures whether an act helped: a short capture before and one after, compared."""

import tempfile
from pathlib import Path
from typing import NamedTuple

from dunmist.advice import Judged
from dunmist.fixing import Effect, effect_of
from dunmist.jobs.capture import Follower, Wishes, follow_nothing, run_capture
from dunmist.jobs.choose import Chosen
from dunmist.jobs.judge import judge
from dunmist.series import Application

MEASURED_S, MEASURED_EVERY_S = 4.0, 0.25


class Use(NamedTuple):
    """Logical processors that an application used, and how many there are."""

    cores: float
    processors: float


class Measured(NamedTuple):
    """What changed for the resource that limits, None where seconds do not tell, and for whom."""

    effect: Effect | None
    before: Use
    after: Use


def sample_now(follow: Follower = follow_nothing) -> Judged:
    """Return what is found on this computer over the next seconds.

    Raises KeyboardInterrupt at once when told to stop: who measures is about to act.
    """
    with tempfile.TemporaryDirectory(prefix="dunmist-") as folder:
        path = Path(folder) / "measured.jsonl.gz"
        wishes = Wishes(path, MEASURED_S, MEASURED_EVERY_S, keeps_when_stopped=False)
        run_capture(wishes, follow=follow)
        return judge(path)


def compare_measured(chosen: Chosen, before: Judged, after: Judged) -> Measured:
    """Return what an act on the chosen application changed between two measurements."""
    diagnosis = chosen.judged.diagnosis
    resource = diagnosis.limiting or "cpu"
    states = [state for state in diagnosis.resources if state.resource == resource]
    name = max(states, key=lambda one: one.used).name if states else None
    return Measured(
        effect_of(
            before.diagnosis.resources,
            after.diagnosis.resources,
            resource,
            # another program may be the one that hangs on a processor now
            None if resource == "core" else name,
            diagnosis.limits.effect.least_change,
        ),
        _use_of(chosen.application, before),
        _use_of(chosen.application, after),
    )


def _use_of(application: Application, measured: Judged) -> Use:
    series = measured.series
    known = _identities(application)
    same = [
        candidate
        for candidate in series.applications
        if not known.isdisjoint(_identities(candidate))
    ]
    if not same:  # it may have come back as other processes
        same = [
            candidate for candidate in series.applications if candidate.name == application.name
        ]
    cores = sum(candidate.cores.mean() for candidate in same)
    return Use(cores, series.machine.logical_processors)


def _identities(application: Application) -> set[tuple[int, int]]:
    """Return process numbers with start times, which mean the same in every capture of a boot."""
    return {(process.pid, process.facts.start_clk) for process in application.members}
