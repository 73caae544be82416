"""Topic ``timeline``: how full each resource was when, and what happened."""

from collections import Counter, defaultdict
from collections.abc import Iterator
from typing import NamedTuple

import numpy as np

from dunmist.advice import Judged
from dunmist.diagnosis import LEVELS
from dunmist.series import Floats, Series
from dunmist.tables.declared import Column, Table, Width

# names that fit next to a time
NAMED_MOST = 4
# notes of the sampler; starts and exits have names
SHOWN_BY_NAME = ("exit", "exec")
MS = 3  # digits of a timestamp in seconds


class LevelAt(NamedTuple):
    """Fill of a resource in one interval."""

    resource: str
    name: str | None
    at_s: float
    used: float
    pressure: float | None
    level: str


def _levels(judged: Judged) -> Iterator[LevelAt]:
    ends_s = judged.series.line.at_s[1:]
    for state in judged.diagnosis.resources:
        trace = state.trace
        for row, end_s in enumerate(ends_s) if trace else ():
            assert trace is not None
            yield LevelAt(
                state.resource,
                state.name,
                round(float(end_s), MS),
                float(trace.used.values[row]),
                None if trace.pressure is None else float(trace.pressure.values[row]),
                LEVELS[int(trace.levels[row])],
            )


RESOURCE_LEVELS: Table[LevelAt] = Table(
    "levels",
    "a row for each resource and interval",
    (
        Column("resource", "text", "which resource"),
        Column("name", "text", "which one of them", width=Width(), answers=("name",)),
        Column("at_s", "at", "end of the interval, since the first tick", title="at"),
        Column("used", "share", "how full it was"),
        Column("pressure", "share", "share of time in which tasks waited for it"),
        Column("level", "text", "calm, busy, strained or choked", answers=("state",)),
    ),
    _levels,
    shown=("resource", "name", "level", "used", "pressure"),
)


class TimelineEvent(NamedTuple):
    """One event, or several of one kind that happened in one interval or run of them."""

    at_s: float
    what: str
    times: int | None
    seconds: float | None = None
    names: str | None = None


def events_of(series: Series) -> list[TimelineEvent]:
    """Return the events of a capture, in order."""
    events = [*_of_sampling(series), *_of_processes(series), *_of_counters(series)]
    return sorted(events, key=lambda event: (event.at_s, event.what))


EVENTS: Table[TimelineEvent] = Table(
    "events",
    "in order; throttling and kills in one interval after another are one row",
    (
        Column("at_s", "at", "since the first tick", title="at"),
        Column("what", "text",
            "start, exit, exec, gap, asleep, clock-set, processors, throttle or kill"),
        Column("count", "number", "how many", lambda row: row.times),
        Column("seconds", "at", "how long"),
        Column("names", "text", "the programs, most frequent first", width=Width(most=70),
            answers=("name",)),
    ),
    lambda judged: events_of(judged.series),
)


def _of_sampling(series: Series) -> Iterator[TimelineEvent]:
    for row, event in series.events:
        if event.what not in SHOWN_BY_NAME:
            yield TimelineEvent(_at_s(series, row), event.what, event.count, event.seconds)


def _of_processes(series: Series) -> Iterator[TimelineEvent]:
    happened: dict[tuple[int, str], Counter[str]] = defaultdict(Counter)
    for process in series.processes.values():
        if process.first_row > 0:
            happened[process.first_row, "start"][process.name] += 1
        if process.ended_row is not None:
            happened[process.ended_row, "exit"][process.name] += 1
    for row, event in series.events:
        if event.what == "exec" and event.facts:
            happened[row, "exec"][event.facts.name] += 1
    for (row, what), names in happened.items():
        yield TimelineEvent(_at_s(series, row), what, names.total(), names=_named(names))


def _of_counters(series: Series) -> Iterator[TimelineEvent]:
    """Yield each unbroken run of intervals in which a counter of trouble grew."""
    for kind, rate in series.devices.throttled.items():
        yield from _runs(series, "throttle", kind, rate.counts())
    kills = series.machine.paging.get("oom_kill")
    if kills is not None:
        yield from _runs(series, "kill", "lack of memory", kills.counts())


def _runs(series: Series, what: str, name: str, counts: Floats) -> Iterator[TimelineEvent]:
    at_s = series.line.at_s
    edges = np.flatnonzero(np.diff(np.concatenate(([0], counts > 0, [0]))))
    for first, end in zip(edges[::2], edges[1::2], strict=True):
        yield TimelineEvent(
            round(float(at_s[first]), MS),
            what,
            round(float(counts[first:end].sum())),
            round(float(at_s[end] - at_s[first]), MS),
            name,
        )


def _at_s(series: Series, row: int) -> float:
    at_s = series.line.at_s
    return round(float(at_s[min(row, len(at_s) - 1)]), MS)


def _named(names: Counter[str]) -> str:
    texts = [f"{name} ×{count}" if count > 1 else name for name, count in names.most_common()]
    more = len(texts) - NAMED_MOST
    return ", ".join(texts[:NAMED_MOST]) + (f" and {more} more" if more > 0 else "")
