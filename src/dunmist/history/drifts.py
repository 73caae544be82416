"""Find what drifts over weeks: the rule of each kind of drift, and its report.

A drift is reported if the trend is more than chance, moves the figure far enough, and goes on day
by day. What updates and new hardware move at once is no drift: a ramp has to be likelier than
steps, and a step is expected where a change is known.
"""

from collections.abc import Sequence
from typing import Literal, NamedTuple

import numpy as np
import numpy.typing as npt

from dunmist.history.change_points import likelier_ramp
from dunmist.history.daily_figures import DriftWord, Followed, Point, series_of
from dunmist.history.sums import Event, Period
from dunmist.history.trend import POINTS_LEAST, Trend, goes_on, noise_of, onset_of, trend_of

Floats = npt.NDArray[np.float64]
# a trend may begin at any time: the shortest window that shows it is nearest to when it began
WINDOWS_DAYS = (28, 42, 56, 112)
FORECAST_DAYS = (12, 14, 21, 28, 42, 56)
# of the two-sided test, and of the interval whose lower bound has to matter
P_MOST, INTERVAL_Z = 1e-3, 3.29
# a window that is half empty tells of another time
WHOLE_LEAST = 0.7
# points in which a ramp is looked for, that tell how a figure moves anyway, and of which a trend
# is at least
RAMP_POINTS, NOISE_POINTS, TREND_POINTS = 70, 150, 10
# of the level, a figure varies by so much at least
NOISE_LEAST = 0.002
# when a trend of a window began is looked for in the last of them
ONSET_POINTS = 90
# a figure that drifts by chance does not do so on two days
CONFIRMED_DAYS = 1
# if steps move a figure, the share has to be reached in this many days
STEPS_DAYS = 14.0
# points before and after a known change from which its step is known
CHANGE_POINTS_LEAST = 2


class Rule(NamedTuple):
    """Conditions under which a trend of one kind is reported."""

    rises: bool
    least_share: float  # of the level at the beginning, by the lower bound
    least: float  # in the unit of the figure
    unit: Literal["bytes", "K/core", "s", "share"]
    windows_days: tuple[int, ...] = ()  # it is looked for in these; as a ramp where there are none
    ramp_cost: float = 12.0  # twice the logarithm of the days for each of which one is expected
    has_steps: bool = True  # updates and new hardware move it at once


RULES: dict[DriftWord, Rule] = {
    # a program that is used more holds more: some percent in two weeks are common. There are many
    # programs: each of them drifts more seldom
    "memory-drift": Rule(True, 0.10, 16 << 20, "bytes", ramp_cost=14.0),
    # dust takes months; half a kelvin for each core in use is felt at full load
    "cooling-drift": Rule(True, 0.10, 0.25, "K/core", has_steps=False),
    "start-drift": Rule(True, 0.12, 3.0, "s"),
    "disk-drift": Rule(True, 0.12, 0.0004, "s"),
    "battery-fading": Rule(False, 0.04, 0.04, "share", WINDOWS_DAYS),
    "storage-forecast": Rule(True, 0.01, 256 << 20, "bytes", FORECAST_DAYS),
}
# a file system that is full later than this is nobody's worry yet
FORECAST_MOST_DAYS = 120.0


class Drift(NamedTuple):
    """A figure that moves over weeks. Days are local dates since 1970."""

    word: DriftWord
    name: str  # of the program, disk, battery or file system; empty of the computer
    unit: str
    since_day: float
    until_day: float
    level: float  # at the beginning of the window
    now: float  # at its end, by the trend
    trend: Trend
    points: list[Point]  # of the window that shows it
    lately: Sequence[Point] = ()  # of some months, to see what came before
    whole: float | None = None  # of a file system: its size
    full_day: float | None = None  # when it is full
    full_between: tuple[float, float] | None = None


def find_drifts(periods: Sequence[Period], events: Sequence[Event]) -> list[Drift]:
    """Return the drifts as of the last recorded day."""
    return [
        drift
        for followed in series_of(periods, events)
        if (drift := drift_of(followed)) is not None
    ]


def drift_of(followed: Followed) -> Drift | None:
    """Return the drift of one figure, None if it has none that lasts."""
    if len(followed.points) < POINTS_LEAST + CONFIRMED_DAYS:
        return None
    look = _in_windows if RULES[followed.word].windows_days else _as_ramp
    points = followed.points
    found = look(followed, points)
    if found is None or look(followed, points[:-CONFIRMED_DAYS]) is None:
        return None
    return found._replace(lately=points[-ONSET_POINTS:])


def _changed_indices(followed: Followed, days: Floats) -> list[int]:
    """Return the indices of the first points after known changes."""
    indices = {int(np.searchsorted(days, np.floor(day))) for day in followed.changed_days}
    most = len(days) - CHANGE_POINTS_LEAST
    return sorted(index for index in indices if CHANGE_POINTS_LEAST <= index <= most)


def _as_ramp(followed: Followed, points: list[Point]) -> Drift | None:
    """Return the drift of a figure that steps move as well."""
    rule = RULES[followed.word]
    days, values = _arrays(points)
    noise = noise_of(values[-NOISE_POINTS:])
    days, values = days[-RAMP_POINTS:], values[-RAMP_POINTS:]
    sign = 1.0 if rule.rises else -1.0
    # most figures do not move at all: no test is needed for those
    if noise is None or sign * (np.median(values[-4:]) - np.median(values)) < rule.least / 2:
        return None
    # a figure with hardly any variation still has some uncertainty
    spread = max(noise.spread, NOISE_LEAST * abs(float(np.median(values))))
    noise = noise._replace(spread=spread)
    changed = _changed_indices(followed, days)
    ramp = likelier_ramp(days, values, noise, rule.ramp_cost, changed)
    if ramp is None or len(days) - ramp.start < POINTS_LEAST:
        return None
    # as it would be had every known change been made before
    for index, step in zip(changed, ramp.known_steps, strict=True):
        values[:index] += step
    span = float(days[-1] - days[ramp.start])
    level = float(np.median(values[max(0, ramp.start - TREND_POINTS) : ramp.start + 1]))
    share = rule.least_share * (max(1.0, span / STEPS_DAYS) if rule.has_steps else 1.0)
    least = max(rule.least, share * abs(level)) / span
    if sign * ramp.slope < least + ramp.error:
        return None
    since = min(ramp.start, len(days) - TREND_POINTS)
    trend = _trend(days[since:], values[since:], sign)
    if trend is None or sign * trend.slope < least:
        return None
    return _drift(followed, points[-(len(days) - since) :], trend, float(days[ramp.start]), level)


def _in_windows(followed: Followed, points: list[Point]) -> Drift | None:
    """Return the drift of a figure that nothing but a drift moves."""
    rule, last = RULES[followed.word], points[-1].day
    sign = 1.0 if rule.rises else -1.0
    for window in rule.windows_days:
        inside = [point for point in points if point.day > last - window]
        if len(inside) < POINTS_LEAST or inside[-1].day - inside[0].day < WHOLE_LEAST * window:
            continue
        days, values = _arrays(inside)
        trend = _trend(days, values, sign)
        if trend is None:
            continue
        least = max(rule.least, rule.least_share * abs(trend.level)) / float(days[-1] - days[0])
        if sign * (trend.low if rule.rises else trend.high) < least:
            continue
        lately_days, lately = _arrays(points[-ONSET_POINTS:])
        since_day = onset_of(lately_days, lately)
        level = float(np.median(lately[lately_days <= since_day]))
        drift = _drift(followed, inside, trend, since_day, level)
        return drift if followed.whole is None else _with_forecast(drift, inside[-1].value)
    return None


def _trend(days: Floats, values: Floats, sign: float) -> Trend | None:
    """Return the trend of values that is more than chance and goes on, in one direction."""
    trend = trend_of(days, values, INTERVAL_Z)
    if trend is None or sign * trend.slope <= 0 or trend.p_value > P_MOST:
        return None
    return trend if goes_on(values, trend) else None


def _drift(
    followed: Followed, inside: list[Point], trend: Trend, since_day: float, level: float
) -> Drift:
    until = inside[-1].day
    now = trend.level + trend.slope * (until - inside[0].day)
    unit = RULES[followed.word].unit
    return Drift(
        followed.word,
        followed.name,
        unit,
        since_day,
        until,
        level,
        now,
        trend,
        inside,
        whole=followed.whole,
    )


def _arrays(points: Sequence[Point]) -> tuple[Floats, Floats]:
    return np.array([point.day for point in points]), np.array([point.value for point in points])


def _with_forecast(drift: Drift, now: float) -> Drift | None:
    """Return when a file system is full, None if that is too far away to tell."""
    left, trend, today = (drift.whole or 0.0) - now, drift.trend, drift.until_day
    if left <= 0 or left / trend.slope > FORECAST_MOST_DAYS:
        return None
    between = (today + left / trend.high, today + left / trend.low)
    return drift._replace(now=now, full_day=today + left / trend.slope, full_between=between)
