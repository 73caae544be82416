"""What drifts over weeks: figures of a day each, and the rule of each kind of drift.

A drift is told where the trend is more than chance, where even the lower bound of its slope moves
the figure far enough, and where it goes on day by day: one step is a change, and no drift.
"""

from collections.abc import Iterator, Sequence
from typing import Literal, NamedTuple

import numpy as np

from dunmist.history.sums import DAY_S, KERNEL, OTHERS, Event, HeatSum, Period
from dunmist.history.trend import (
    POINTS_LEAST,
    Trend,
    goes_on,
    is_no_staircase,
    noise_of,
    onset_of,
    trend_of,
    without_steps,
)

DriftWord = Literal[
    "memory-drift",
    "cooling-drift",
    "start-drift",
    "disk-drift",
    "battery-fading",
    "storage-forecast",
]
# a trend may begin at any time: the shortest window that shows it is nearest to when it began
WINDOWS_DAYS = (12, 14, 21, 28, 42, 56)
# of the two-sided test, and of the interval whose lower bound has to matter
P_MOST, INTERVAL_Z = 1e-3, 3.29
# where it is known how the figure moved before, its slope is held against that noise: so many
# standard errors, and beyond what has to move anyway
P_MOST_BESIDE_NOISE, NOISE_Z, BOUND_Z, NOISE_POINTS = 5e-3, 4.2, 2.0, 90
WHOLE_LEAST = 0.7
# when it began is looked for in the last of them
ONSET_POINTS = 90
# what lies longer ago says nothing of a drift of now: the longest window, and the noise before it
LATELY_DAYS = 210
HOUR = 3600.0
# what a window says of a figure by chance it does not say on two days
CONFIRMED_DAYS = 1
# where steps move a figure, some small ones look like a slow drift: the share has to be moved in so
# many days
STEPS_DAYS = 14.0
# of the slope, that has to be left without steps
SMOOTH_LEAST = 0.6


class Rule(NamedTuple):
    """When a trend of one kind is told."""

    rises: bool
    least_share: float  # of the level at the beginning of the window, by the lower bound
    least: float  # in the unit of the figure
    unit: Literal["bytes", "K/core", "s", "share"]
    windows_days: tuple[int, ...] = WINDOWS_DAYS
    has_steps: bool = False  # updates and new hardware move it at once


RULES: dict[DriftWord, Rule] = {
    # a program that is used more holds more: some percent in two weeks are common
    "memory-drift": Rule(True, 0.10, 16 << 20, "bytes", has_steps=True),
    # dust takes months; half a kelvin for each core in use is felt at full load
    "cooling-drift": Rule(True, 0.10, 0.25, "K/core"),
    "start-drift": Rule(True, 0.12, 3.0, "s", has_steps=True),
    "disk-drift": Rule(True, 0.12, 0.0004, "s", has_steps=True),
    "battery-fading": Rule(False, 0.04, 0.04, "share", (28, 42, 56, 112)),
    "storage-forecast": Rule(True, 0.01, 256 << 20, "bytes"),
}
# a file system that is full later than this is nobody's worry yet
FORECAST_MOST_DAYS = 120.0
# recorded seconds and requests of a day that say something
MEMORY_LEAST_S, LOAD_LEAST_S, REQUESTS_LEAST = 1 * HOUR, 1 * HOUR, 500.0
# variance of the load, in cores squared, from which its slope with temperature is known
LOAD_SPREAD_LEAST = 0.04


class Point(NamedTuple):
    """A figure of one local day."""

    day: float
    value: float


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
    """Return what drifts, as of the last day that was recorded."""
    return [
        drift
        for word, name, points, whole in series_of(periods, events)
        if (drift := drift_of(word, name, points, whole)) is not None
    ]


def series_of(
    periods: Sequence[Period], events: Sequence[Event]
) -> Iterator[tuple[DriftWord, str, list[Point], float | None]]:
    """Yield each figure by day that may drift, with the whole where there is one."""
    days: dict[int, Period] = {}
    last_s = max((period.began_s for period in periods), default=0)
    since_s = last_s - LATELY_DAYS * DAY_S
    lately = [period for period in periods if period.began_s >= since_s]
    for period in sorted(lately, key=lambda each: each.began_s):
        whole = days.get(period.local_day)
        if whole is None:
            whole = days[period.local_day] = Period(
                period.local_day * DAY_S - period.offset_s, DAY_S, period.offset_s
            )
        # an hour whose clock jumped may be of another day
        if not period.clock_set:
            whole.add(period)
    names = {name for day in days.values() for name in day.applications}
    for name in sorted(names - {OTHERS, KERNEL}):
        yield "memory-drift", name, list(_memory(days, name)), None
    yield "cooling-drift", "", list(_cooling(days)), None
    starts = [
        Point(event.at_s / DAY_S, event.value)
        for event in events
        if event.value and event.at_s >= since_s
    ]
    yield "start-drift", "", starts, None
    for name in sorted({name for day in days.values() for name in day.disks}):
        yield "disk-drift", name, list(_requests(days, name)), None
    for what, word in (("battery", "battery-fading"), ("storage", "storage-forecast")):
        levels = {name for day in days.values() for kind, name in day.levels if kind == what}
        for name in sorted(levels):
            found = [(day, each.levels.get((what, name))) for day, each in days.items()]
            known = [(day, level) for day, level in found if level is not None]
            scale = known[-1][1].whole if what == "battery" else 1.0
            points = [Point(float(day), level.value / scale) for day, level in known]
            last = known[-1][1].whole if what == "storage" else None
            # another size is another file system
            if len({level.whole for _, level in known[-WINDOWS_DAYS[0] :]}) == 1:
                yield word, name, points, last  # type: ignore[misc]  # of the two words above


def drift_of(
    word: DriftWord, name: str, points: list[Point], whole: float | None = None
) -> Drift | None:
    """Return the drift of one figure, None where it has none that lasts."""
    if len(points) < POINTS_LEAST + CONFIRMED_DAYS:
        return None
    found = _in_windows(word, name, points, whole)
    if found is None:
        return None
    earlier = points[:-CONFIRMED_DAYS]
    if _in_windows(word, name, earlier, whole) is None:
        return None
    lately = points[-ONSET_POINTS:]
    days = np.array([point.day for point in lately])
    values = np.array([point.value for point in lately])
    if RULES[word].has_steps:
        values = without_steps(values)
    since_day = onset_of(days, values)
    before = [point.value for point in lately if point.day <= since_day]
    return found._replace(since_day=since_day, level=float(np.median(before)), lately=lately)


def _in_windows(
    word: DriftWord, name: str, points: list[Point], whole: float | None
) -> Drift | None:
    rule, last = RULES[word], points[-1].day
    for window in rule.windows_days:
        inside = [point for point in points if point.day > last - window]
        # a window that is half empty tells of another time
        if len(inside) < POINTS_LEAST or inside[-1].day - inside[0].day < WHOLE_LEAST * window:
            continue
        before = [point.value for point in points[: -len(inside)]][-NOISE_POINTS:]
        drift = _told(rule, word, name, inside, before)
        if drift is not None and word == "storage-forecast" and whole is not None:
            return _with_forecast(drift, whole, inside[-1].value)
        if drift is not None:
            return drift
    return None


def _told(
    rule: Rule, word: DriftWord, name: str, inside: list[Point], before: list[float]
) -> Drift | None:
    """Return the drift in one window; ``before`` is how the figure moved ahead of it."""
    days = np.array([point.day for point in inside])
    values = np.array([point.value for point in inside])
    sign = 1.0 if rule.rises else -1.0
    span = float(days[-1] - days[0])
    # most figures do not move at all: no test is needed for those
    third = max(1, len(values) // 3)
    moved = sign * (np.median(values[-third:]) - np.median(values[:third]))
    if moved < rule.least / 2:
        return None
    trend = trend_of(days, values, INTERVAL_Z)
    if trend is None or sign * trend.slope <= 0 or not goes_on(values, trend):
        return None
    if rule.has_steps and not is_no_staircase(days, values):
        return None
    smooth = trend_of(days, without_steps(values), INTERVAL_Z)
    # what is left of a flight of steps is flat
    if smooth is None or sign * smooth.slope < SMOOTH_LEAST * abs(trend.slope):
        return None
    share = rule.least_share * (max(1.0, span / STEPS_DAYS) if rule.has_steps else 1.0)
    least = max(rule.least, share * abs(trend.level)) / span
    noise = noise_of(np.array(before))
    if noise is not None:
        error = noise.slope_error(days)
        is_clear = sign * trend.slope >= max(NOISE_Z * error, least + BOUND_Z * error)
        p_most = P_MOST_BESIDE_NOISE
    else:
        is_clear = sign * (trend.low if rule.rises else trend.high) >= least
        p_most = P_MOST
    if not is_clear or max(trend.p_value, smooth.p_value) > p_most:
        return None
    now = trend.level + trend.slope * span
    first, last = float(days[0]), float(days[-1])
    return Drift(word, name, rule.unit, first, last, trend.level, now, trend, inside)


def _with_forecast(drift: Drift, whole: float, now: float) -> Drift | None:
    """Return when a file system is full, None where that is too far away to tell."""
    left, trend, today = whole - now, drift.trend, drift.until_day
    if left <= 0 or left / trend.slope > FORECAST_MOST_DAYS:
        return None
    between = (today + left / trend.high, today + left / trend.low)
    return drift._replace(
        now=now, whole=whole, full_day=today + left / trend.slope, full_between=between
    )


def _memory(days: dict[int, Period], name: str) -> Iterator[Point]:
    for day, period in days.items():
        each = period.applications.get(name)
        if each is not None and each.memory_s >= MEMORY_LEAST_S:
            yield Point(float(day), each.memory_byte_s / each.memory_s)


def _cooling(days: dict[int, Period]) -> Iterator[Point]:
    """Yield by how many kelvins each core in use heats the CPU, whatever the room has."""
    for day, period in days.items():
        slope = kelvin_per_core(period.heat)
        if slope is not None:
            yield Point(float(day), slope)


def kelvin_per_core(heat: HeatSum) -> float | None:
    """Return the slope of temperature over load, None where the load hardly varied."""
    if heat.load_s < LOAD_LEAST_S:
        return None
    mean = heat.load_core_s / heat.load_s
    spread = heat.load_core2_s / heat.load_s - mean * mean
    if spread < LOAD_SPREAD_LEAST:
        return None
    together = heat.load_core_celsius_s / heat.load_s - mean * heat.load_celsius_s / heat.load_s
    return together / spread


def _requests(days: dict[int, Period], name: str) -> Iterator[Point]:
    for day, period in days.items():
        each = period.disks.get(name)
        if each is not None and each.requests >= REQUESTS_LEAST:
            yield Point(float(day), each.request_s / each.requests)
