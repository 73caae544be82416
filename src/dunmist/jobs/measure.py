"""Measures whether an act helped: a short capture before and one after, compared."""

import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import NamedTuple

from dunmist.advice import Frees, Judged
from dunmist.diagnosis import savings_of
from dunmist.fixing import Effect, boot_id, effect_of
from dunmist.jobs.acts import this_computer
from dunmist.jobs.capture import CaptureOptions, Follower, follow_nothing, run_capture
from dunmist.jobs.judge import judge
from dunmist.jobs.selection import Chosen
from dunmist.series import Application, Series

# long enough for 16 values before and 16 after an act
MEASURED_S, MEASURED_EVERY_S = 4.0, 0.25
# a capture as young as this tells how it was before
YOUNG_S = 600.0


class Use(NamedTuple):
    """Logical CPUs that an application used, and how many there are."""

    cores: float
    processors: float


class Measured(NamedTuple):
    """Effect of a step, and the applications concerned."""

    effect: Effect | None  # None if seconds are too short to say
    before: Use
    after: Use
    expected: Frees | None = None
    freed: float | None = None  # the measured part of the expected saving


def sample_now(follow: Follower = follow_nothing) -> Judged:
    """Sample and judge this computer over the next seconds.

    Raises KeyboardInterrupt at once on a signal: the caller is about to act.
    """
    with tempfile.TemporaryDirectory(prefix="dunmist-") as folder:
        path = Path(folder) / "measured.jsonl.gz"
        options = CaptureOptions(
            path, MEASURED_S, MEASURED_EVERY_S, keeps_when_stopped=False, with_code=False
        )
        run_capture(options, follow=follow)
        return judge(path)


def just_before(chosen: Chosen) -> Judged | None:
    """Return the measurement from a capture if it is recent and of this boot, else None."""
    header = chosen.judged.series.header
    if not header.live or header.machine.boot_id != boot_id(this_computer()):
        return None
    ended = datetime.fromisoformat(header.started) + timedelta(
        seconds=chosen.judged.series.since_s + chosen.judged.series.duration_s
    )
    age_s = (datetime.now(UTC) - ended).total_seconds()
    return chosen.judged if 0 <= age_s <= YOUNG_S else None


def compare_measured(
    chosen: Chosen, before: Judged, after: Judged, expected: Frees | None = None
) -> Measured:
    """Return the effect of an act on the chosen application between two measurements."""
    diagnosis, application = chosen.judged.diagnosis, chosen.suspect.application
    resource = diagnosis.limiting or "cpu"
    states = [state for state in diagnosis.resources if state.resource == resource]
    name = max(states, key=lambda state: state.used).name if states else None
    return Measured(
        effect_of(
            before.diagnosis.resources,
            after.diagnosis.resources,
            resource,
            # another program may be the one that hangs on a CPU now
            None if resource == "core" else name,
            diagnosis.limits.effect.least_change,
        ),
        _use_of(application, before),
        _use_of(application, after),
        expected,
        None if expected is None else _freed(application, before, after, expected),
    )


def _freed(application: Application, before: Judged, after: Judged, expected: Frees) -> float:
    """Return the drop in an application's use of the resource to be freed."""
    then, now = (
        sum(
            freed.value
            for later in same_applications(application, judged.series)
            if (freed := savings_of(later, expected.resource))
        )
        for judged in (before, after)
    )
    return then - now


def same_applications(application: Application, series: Series) -> list[Application]:
    """Return those of a later capture that are what an application was, or have its name."""
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
    return same


def _use_of(application: Application, measured: Judged) -> Use:
    series = measured.series
    cores = sum(later.cores.mean() for later in same_applications(application, series))
    return Use(cores, series.machine.logical_processors)


def _identities(application: Application) -> set[tuple[int, int]]:
    """Return process numbers with start times, which mean the same in every capture of a boot."""
    return {(process.pid, process.facts.start_clk) for process in application.members}
