"""Ticks of a long capture put together, so that what is held does not grow with its length.

Counters are totals, so the last reading of several ticks says what all of them said. Sums and means
over merged ticks are exact. Only things that came and went within them are lost. Levels are those
at the end. An interval in which nothing was sampled stays one by itself. The first tick stands
alone, since everything is counted from there.
"""

import math
from collections.abc import Callable, Hashable, Iterable, Iterator
from typing import Any, NamedTuple, TypeVar

import msgspec

from dunmist.computer import ProcessDetail
from dunmist.sampling import ADDED, KEYS, WORDS, Tick
from dunmist.series.timeline import AT_ONCE, GAP_LEAST_S, GAP_PERIODS

# a triage holds some twenty figures of each application for each row
ROWS_MOST = 400
# ticks that are held until they are put together
HELD_MOST = 50
ResourceInstance = TypeVar("ResourceInstance")


class Part(NamedTuple):
    """The judged part of a capture, in seconds after its first tick."""

    since_s: float = 0.0
    until_s: float = math.inf


WHOLE = Part()


class Row(NamedTuple):
    """Ticks put together; ``after_gap`` says that nothing was sampled before the first of them."""

    tick: Tick
    after_gap: bool


def ticks_together(ticks: int) -> int:
    """Return the number of ticks that are merged into one row."""
    return max(1, math.ceil(ticks / ROWS_MOST))


class Together:
    """Puts ``count`` ticks together; what lies before ``since_s`` is all one."""

    def __init__(self, count: int, every_s: float, since_s: float = 0.0) -> None:
        self.count = count
        self._every_s = every_s
        self._since_s = since_s
        self._ticks: list[Tick] = []
        self._size = 0
        self._last_s: float | None = None
        self._usual_s = 0.0
        self._began = False

    def add(self, tick: Tick) -> Iterator[Row]:
        """Take a tick, and yield the rows that are whole with it."""
        if not self._began:
            yield from self._before(tick)
            return
        gap = self.count > 1 and self._is_gap(tick)
        if gap:
            yield from self.rest()
        self._take(tick)
        if gap or self._size >= self.count:
            yield Row(self._given(), gap)

    def reach(self, at_s: float) -> Iterator[Row]:
        """Yield all that lies before the part, once a tick is beyond its beginning.

        What appears with that tick is new, so it must be asked before that is taken.
        """
        if not self._began and at_s > self._since_s and self._size:
            self._began = True
            # an earlier end lies outside the judged part
            yield Row(msgspec.structs.replace(self._given(), exits=[]), after_gap=False)

    def rest(self) -> Iterator[Row]:
        """Yield the last, incomplete row."""
        if self._size:
            yield Row(self._given(), after_gap=False)

    def _before(self, tick: Tick) -> Iterator[Row]:
        """Put everything together up to the time from which figures are wanted."""
        self._take(tick)
        if not self._since_s:
            self._began = True
            yield Row(msgspec.structs.replace(self._given(), exits=[]), after_gap=False)

    def _is_gap(self, tick: Tick) -> bool:
        """Whether nothing was sampled for several periods before a tick."""
        since_s = tick.at_s - (self._last_s or 0.0)
        # if ticks usually come late, such an interval is no gap; a single long one is no habit
        period_s = max(self._every_s, self._usual_s)
        if since_s >= AT_ONCE * self._every_s:
            self._usual_s = min(2 * period_s, since_s) if period_s else since_s
        return since_s > max(GAP_PERIODS * period_s, GAP_LEAST_S)

    def _take(self, tick: Tick) -> None:
        self._ticks.append(tick)
        self._last_s = tick.at_s
        self._size += 1
        # ticks that are merged later take room until then
        if len(self._ticks) >= HELD_MOST:
            self._ticks = [merged(self._ticks)]

    def _given(self) -> Tick:
        tick = merged(self._ticks)
        self._ticks, self._size = [], 0
        return tick


def merged(ticks: list[Tick]) -> Tick:
    """Return several ticks as one, which says what the last of them would have said."""
    if len(ticks) == 1:
        return ticks[0]
    last = ticks[-1]
    changes: dict[str, Any] = {
        field: _newest((record for tick in ticks for record in getattr(tick, field)), key)
        for field, key in KEYS.items()
    }
    for field in WORDS:
        changes[field] = {
            word: value for tick in ticks for word, value in (getattr(tick, field) or {}).items()
        }
    for field in ADDED:
        changes[field] = [record for tick in ticks for record in getattr(tick, field)]
    changes["threads"] = _threads(ticks)
    changes["details"] = _details(ticks)
    changes["took_s"] = max(tick.took_s for tick in ticks)
    return msgspec.structs.replace(last, **changes)


def _newest(
    instances: Iterable[ResourceInstance], key: Callable[[ResourceInstance], Hashable]
) -> list[ResourceInstance]:
    return list({key(each): each for each in instances}.values())


def _details(ticks: list[Tick]) -> list[ProcessDetail]:
    """Return the newest details of each process with all sockets that it was seen with."""
    sockets: dict[int, dict[int, None]] = {}
    details = [detail for tick in ticks for detail in tick.details]
    for detail in details:
        sockets.setdefault(detail.process, {}).update(dict.fromkeys(detail.sockets))
    return [
        msgspec.structs.replace(merged_detail, sockets=list(sockets[merged_detail.process]))
        for merged_detail in _newest(details, lambda detail: detail.process)
    ]


def _threads(ticks: list[Tick]) -> list[Any]:
    """Return the newest sample of each thread, with its name where reading it began in one."""
    names = {
        (thread.process, thread.tid): thread.name
        for tick in ticks
        for thread in tick.threads
        if thread.name is not None
    }
    newest = _newest(
        (thread for tick in ticks for thread in tick.threads), lambda tick: (tick.process, tick.tid)
    )
    return [
        merged_thread
        if merged_thread.name or not (name := names.get((merged_thread.process, merged_thread.tid)))
        else msgspec.structs.replace(merged_thread, name=name)
        for merged_thread in newest
    ]
