"""Topic ``timeline``: what happened when."""

from collections import Counter, defaultdict
from collections.abc import Iterator

import numpy as np
import pandas as pd

from dunmist.series.load import Series
from dunmist.series.rates import Floats

NAMED_MOST = 4


def event_table(series: Series) -> pd.DataFrame:
    """Return one row for each kind of event at a tick, in order.

    ``what`` is start, exit, exec, gap, asleep, clock-set, processors, throttle or kill; ``count``
    how many, ``seconds`` how long, ``names`` the programs, most frequent first.
    """
    rows = [*_of_sampling(series), *_of_processes(series), *_of_counters(series)]
    rows.sort(key=lambda row: (float(str(row["at_s"])), str(row["what"])))
    return pd.DataFrame(rows, columns=["at_s", "what", "count", "seconds", "names"])


def _of_sampling(series: Series) -> Iterator[dict[str, object]]:
    """Yield what the sampler noted itself; exits are told by name below."""
    for row, event in series.events:
        if event.what in ("exit", "exec"):
            continue
        yield {"at_s": _at_s(series, row), "what": event.what, "count": event.count,
               "seconds": event.seconds}  # fmt: skip


def _of_processes(series: Series) -> Iterator[dict[str, object]]:
    processes, grouping = series.processes, series.processes.grouping
    happened: dict[tuple[int, str], Counter[str]] = defaultdict(Counter)
    for identity in grouping.application_of:
        name = grouping.program(identity).name
        started, ended = processes.first_tick.get(identity, 0), processes.ended_tick.get(identity)
        if started > 0:
            happened[started, "start"][name] += 1
        if ended is not None:
            happened[ended, "exit"][name] += 1
    for row, event in series.events:
        if event.what == "exec" and event.facts:
            happened[row, "exec"][event.facts.name] += 1
    for (row, what), names in happened.items():
        yield {"at_s": _at_s(series, row), "what": what, "count": names.total(),
               "names": _named(names)}  # fmt: skip


def _of_counters(series: Series) -> Iterator[dict[str, object]]:
    """Yield each unbroken run of intervals in which a counter of trouble grew."""
    interval_s = series.machine.interval_s
    for kind, counts in series.devices.throttled.items():
        yield from _runs(series, "throttle", kind, np.nan_to_num(counts))
    kills = series.machine.paging.get("oom_kill")
    if kills is not None:
        yield from _runs(series, "kill", "lack of memory", np.nan_to_num(kills) * interval_s)


def _runs(series: Series, what: str, name: str, counts: Floats) -> Iterator[dict[str, object]]:
    at_s = series.machine.at_s
    edges = np.flatnonzero(np.diff(np.concatenate(([0], counts > 0, [0]))))
    for first, end in zip(edges[::2], edges[1::2], strict=True):
        yield {"at_s": round(float(at_s[first]), 3), "what": what,
               "count": round(float(counts[first:end].sum())),
               "seconds": round(float(at_s[end] - at_s[first]), 3), "names": name}  # fmt: skip


def _at_s(series: Series, row: int) -> float:
    at_s = series.machine.at_s
    return round(float(at_s[min(row, len(at_s) - 1)]), 3)


def _named(names: Counter[str]) -> str:
    texts = [f"{name} ×{count}" if count > 1 else name for name, count in names.most_common()]
    more = len(texts) - NAMED_MOST
    return ", ".join(texts[:NAMED_MOST]) + (f" and {more} more" if more > 0 else "")
