"""Topic ``timeline``: how full each resource was when, and what happened."""

from collections import Counter, defaultdict
from collections.abc import Iterator

import numpy as np

from dunmist.advice import Judged
from dunmist.diagnosis import LEVELS
from dunmist.series import Floats, Series
from dunmist.tables.declared import Column, Row, Table, Width

# names that fit beside a time
NAMED_MOST = 4
# what the sampler noted itself; starts and ends are told by name
TOLD_BY_NAME = ("exit", "exec")
MS = 3  # digits of a moment in seconds


def _levels(judged: Judged) -> Iterator[Row]:
    ends_s = judged.series.line.at_s[1:]
    for state in judged.diagnosis.resources:
        trace = state.trace
        for row, moment_s in enumerate(ends_s) if trace else ():
            assert trace is not None
            yield {
                "resource": state.resource,
                "name": state.name,
                "at_s": round(float(moment_s), MS),
                "used": float(trace.used.values[row]),
                "pressure": None if trace.pressure is None else float(trace.pressure.values[row]),
                "level": LEVELS[int(trace.levels[row])],
            }


RESOURCE_LEVELS = Table(
    "levels",
    "a row for each resource and interval",
    (
        Column("resource", "text", "which resource"),
        Column("name", "text", "which one of them", Width(), ("name",)),
        Column("at_s", "at", "end of the interval, since the first tick", title="at"),
        Column("used", "share", "how full it was"),
        Column("pressure", "share", "share of time in which tasks waited for it"),
        Column("level", "text", "calm, busy, strained or choked", answers=("state",)),
    ),
    _levels,
    shown=("resource", "name", "level", "used", "pressure"),
)


def events_of(series: Series) -> list[Row]:
    """Return what happened during a capture, in order, as rows of the table of events."""
    rows = [*_of_sampling(series), *_of_processes(series), *_of_counters(series)]
    return sorted(rows, key=lambda row: (float(str(row["at_s"])), str(row["what"])))


EVENTS = Table(
    "events",
    "in order; throttling and kills in one interval after another are one row",
    (
        Column("at_s", "at", "since the first tick", title="at"),
        Column(
            "what",
            "text",
            "start, exit, exec, gap, asleep, clock-set, processors, throttle or kill",
        ),
        Column("count", "number", "how many"),
        Column("seconds", "at", "how long"),
        Column("names", "text", "the programs, most frequent first", Width(most=70), ("name",)),
    ),
    lambda judged: events_of(judged.series),
)


def _of_sampling(series: Series) -> Iterator[Row]:
    for row, event in series.events:
        if event.what not in TOLD_BY_NAME:
            yield {
                "at_s": _at_s(series, row),
                "what": event.what,
                "count": event.count,
                "seconds": event.seconds,
            }


def _of_processes(series: Series) -> Iterator[Row]:
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
        yield {
            "at_s": _at_s(series, row),
            "what": what,
            "count": names.total(),
            "names": _named(names),
        }


def _of_counters(series: Series) -> Iterator[Row]:
    """Yield each unbroken run of intervals in which a counter of trouble grew."""
    for kind, rate in series.devices.throttled.items():
        yield from _runs(series, "throttle", kind, rate.counts())
    kills = series.machine.paging.get("oom_kill")
    if kills is not None:
        yield from _runs(series, "kill", "lack of memory", kills.counts())


def _runs(series: Series, what: str, name: str, counts: Floats) -> Iterator[Row]:
    at_s = series.line.at_s
    edges = np.flatnonzero(np.diff(np.concatenate(([0], counts > 0, [0]))))
    for first, end in zip(edges[::2], edges[1::2], strict=True):
        yield {
            "at_s": round(float(at_s[first]), MS),
            "what": what,
            "count": round(float(counts[first:end].sum())),
            "seconds": round(float(at_s[end] - at_s[first]), MS),
            "names": name,
        }


def _at_s(series: Series, row: int) -> float:
    at_s = series.line.at_s
    return round(float(at_s[min(row, len(at_s) - 1)]), MS)


def _named(names: Counter[str]) -> str:
    texts = [f"{name} ×{count}" if count > 1 else name for name, count in names.most_common()]
    more = len(texts) - NAMED_MOST
    return ", ".join(texts[:NAMED_MOST]) + (f" and {more} more" if more > 0 else "")
