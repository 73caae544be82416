"""Figures of a local day each that may drift over weeks."""

from collections.abc import Iterator, Sequence
from typing import Literal, NamedTuple

from dunmist.history.sums import DAY_S, KERNEL, OTHERS, Event, HeatSum, Period

DriftWord = Literal[
    "memory-drift",
    "cooling-drift",
    "start-drift",
    "disk-drift",
    "battery-fading",
    "storage-forecast",
]
HOUR = 3600.0
# older points say nothing of a present drift: the longest window, and the noise before it
LATELY_DAYS = 210
# a battery or a file system has one size in the last of its days, or it is another one
SAME_DAYS = 12
# recorded seconds and requests of a day that say something
MEMORY_LEAST_S, LOAD_LEAST_S, REQUESTS_LEAST = 1 * HOUR, 1 * HOUR, 500.0
# variance of the load, in cores squared, from which its slope with temperature is known
LOAD_SPREAD_LEAST = 0.04


class Point(NamedTuple):
    """A figure of one local day."""

    day: float
    value: float


class Followed(NamedTuple):
    """A figure that may drift, by local day, and the days on which something of it was changed."""

    word: DriftWord
    name: str
    points: list[Point]
    whole: float | None = None  # of a file system: its size
    changed_days: tuple[float, ...] = ()


def series_of(
    periods: Sequence[Period], events: Sequence[Event], lately_days: float = LATELY_DAYS
) -> Iterator[Followed]:
    """Yield each figure that may drift."""
    days: dict[int, Period] = {}
    last_s = max((period.began_s for period in periods), default=0)
    since_s = last_s - lately_days * DAY_S
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
        yield Followed(
            "memory-drift", name, list(_memory(days, name)), changed_days=_changed(events, name)
        )
    yield Followed("cooling-drift", "", list(_cooling(days)))
    starts = [
        Point(event.at_s / DAY_S, event.value)
        for event in events
        if event.value and event.at_s >= since_s
    ]
    yield Followed("start-drift", "", starts)
    for name in sorted({name for day in days.values() for name in day.disks}):
        yield Followed("disk-drift", name, list(_requests(days, name)))
    levels_of: tuple[tuple[str, DriftWord], ...] = (
        ("battery", "battery-fading"),
        ("storage", "storage-forecast"),
    )
    for what, word in levels_of:
        levels = {name for day in days.values() for kind, name in day.levels if kind == what}
        for name in sorted(levels):
            found = [(day, each.levels.get((what, name))) for day, each in days.items()]
            known = [(day, level) for day, level in found if level is not None]
            scale = known[-1][1].whole if what == "battery" else 1.0
            points = [Point(float(day), level.value / scale) for day, level in known]
            last = known[-1][1].whole if what == "storage" else None
            # another size is another file system
            if len({level.whole for _, level in known[-SAME_DAYS:]}) == 1:
                yield Followed(word, name, points, last)


def _changed(events: Sequence[Event], name: str) -> tuple[float, ...]:
    """Return the days on which a package of that name was changed."""
    return tuple(
        event.at_s / DAY_S
        for event in events
        if event.what == "change" and event.name.partition(" ")[0] == name
    )


def _memory(days: dict[int, Period], name: str) -> Iterator[Point]:
    for day, period in days.items():
        each = period.applications.get(name)
        if each is not None and each.memory_s >= MEMORY_LEAST_S:
            yield Point(float(day), each.memory_byte_s / each.memory_s)


def _cooling(days: dict[int, Period]) -> Iterator[Point]:
    """Yield the rise of the CPU in kelvins per core in use, whatever the room temperature."""
    for day, period in days.items():
        slope = kelvin_per_core(period.heat)
        if slope is not None:
            yield Point(float(day), slope)


def kelvin_per_core(heat: HeatSum) -> float | None:
    """Return the slope of temperature over load, None if the load hardly varied."""
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
