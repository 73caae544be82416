"""Answer for a capture what is usual and what drifts, from the history."""

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from dunmist.history.database import History
from dunmist.history.drifts import Drift, find_drifts
from dunmist.history.sums import DAY_S, HOUR_S, Event, Period

# less recorded time is no past to speak of, and fewer hours make no usual range
DAYS_LEAST, HOURS_LEAST, SAMPLED_LEAST_S = 7, 8, 300.0
# how far back the same hour is looked for, and hours that are near enough to it
USUAL_DAYS, NEAR_HOURS = 28, 1
# a change so near to the beginning of a drift may have brought it about
NEAR_DAYS = 3.0


class UsualRange(NamedTuple):
    """Usual use of a program, and its limit in 95 of 100 hours."""

    usual: float
    high: float
    hours: int
    chance: float  # of as much as now, or more, where nothing changed


class Past(NamedTuple):
    """The recorded past."""

    days: int  # on which something was recorded
    programs: frozenset[str]
    hours: list[Period]  # at this time of day, on the same kind of day
    drifts: list[Drift]
    events: list[Event]

    def usual_cores(self, program: str, now: float) -> UsualRange | None:
        """Return the usual usage of a program at this hour, None if too little was recorded."""
        cores = []
        for period in self.hours:
            each = period.applications.get(program)
            cores.append(each.cpu_s / period.sampled_s if each is not None else 0.0)
        return usual_range(cores, now) if len(cores) >= HOURS_LEAST else None


def changes_near(drift: Drift, events: Sequence[Event]) -> list[Event]:
    """Return the changes about when a drift began, those of its program first."""
    near = [
        event
        for event in events
        if event.what == "change" and abs(event.at_s / DAY_S - drift.since_day) <= NEAR_DAYS
    ]
    own = drift.name.partition(".")[0]
    return sorted(near, key=lambda event: not (own and event.name.startswith(own)))


def past_of(history: History, began_s: float, ended_s: float) -> Past | None:
    """Return the past of a capture from a history, None if it holds too little.

    What was recorded while it was sampled is left out. Raises HistoryError.
    """
    periods = [
        period
        for period in history.periods()
        if period.began_s + period.length_s <= began_s or period.began_s >= ended_s
    ]
    before = [period for period in periods if period.began_s < began_s]
    days = {period.local_day for period in before}
    if len(days) < DAYS_LEAST:
        return None
    events = [event for event in history.events() if event.at_s < ended_s]
    return Past(
        days=len(days),
        programs=history.names_before(began_s),
        hours=hours_alike(before, began_s),
        drifts=find_drifts(before, events),
        events=events,
    )


def hours_alike(periods: Sequence[Period], at_s: float, days: float = USUAL_DAYS) -> list[Period]:
    """Return the hours of the last days at this time of day, on the same kind of day."""
    if not periods:
        return []
    now = Period(int(at_s), HOUR_S, periods[-1].offset_s)
    return [
        period
        for period in periods
        if period.length_s == HOUR_S
        and at_s - days * DAY_S <= period.began_s <= at_s - HOUR_S
        and period.sampled_s >= SAMPLED_LEAST_S
        and period.is_weekend == now.is_weekend
        and (period.local_hour - now.local_hour + NEAR_HOURS) % 24 <= 2 * NEAR_HOURS
        and not period.clock_set
    ]


def usual_range(before: Sequence[float], now: float) -> UsualRange:
    """Return the mean and the upper bound of one more observation.

    Prediction interval of one future observation: Hahn and Meeker 1991, Statistical Intervals, 4.8.
    """
    from scipy.stats import t

    values = np.asarray(before, dtype=np.float64)
    count = len(values)
    usual = float(values.mean())
    wide = max(float(values.std(ddof=1)), 1e-3) * math.sqrt(1 + 1 / count)
    return UsualRange(
        usual=usual,
        high=usual + wide * float(t.ppf(0.975, count - 1)),
        hours=count,
        chance=float(t.sf((now - usual) / wide, count - 1)),
    )
