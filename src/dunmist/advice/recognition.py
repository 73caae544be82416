"""Recognises what kind of work an application does: by name, by unit, or by its signs."""

import re
from collections.abc import Callable
from typing import Literal, NamedTuple

import numpy as np

from dunmist.advice.catalogue import Kind, catalogue
from dunmist.advice.origin import Origin
from dunmist.series import Series
from dunmist.series.rates import Floats

# a name counts as known; a word in it or signs are a guess
By = Literal["unit", "name", "word", "signs"]
GUESSES: tuple[By, ...] = ("word", "signs")
_WORDS = re.compile(r"[^a-z]+")
# bytes a second over the capture from which on an application uses a disk or sends all the time
USES_DISK, SENDS = 500_000.0, 50_000.0
SHORT_LIVED_SHARE = 0.3
LOW_PRIORITY_SHARE = 0.5
MATTERS_CORES = 0.05


class Recognised(NamedTuple):
    """A kind of the catalogue and by what it was recognised."""

    kind: Kind
    by: By


def recognise(series: Series, application: int, origin: Origin) -> Recognised | None:
    """Return what kind of work an application does; None when it is not known."""
    grouping = series.processes.grouping
    about = grouping.applications[application]
    names = {grouping.program(one).name for one in about.members} | {about.name}
    if about.kernel:
        tasks = {grouping.facts(one).name.partition("/")[0] for one in about.members}
        return _first_by(lambda kind: _fit(kind.kernel, tasks), "name")
    signs = signs_of(series, application, origin)
    words = {word for name in names for word in _WORDS.split(name.lower())}
    return (
        _first_by(lambda kind: _fit(kind.units, {about.unit or ""}), "unit")
        or _first_by(lambda kind: _fit(kind.names, names), "name")
        or _first_by(lambda kind: not kind.words.isdisjoint(words), "word")
        or _first_by(lambda kind: bool(kind.signs) and kind.signs <= signs, "signs")
    )


def signs_of(series: Series, application: int, origin: Origin) -> frozenset[str]:
    """Return the signs of an application.

    ``scheduled``: a timer or a job started it. ``background``: it has neither a terminal nor a
    window of its own. ``low-priority``: most of its time it gave way. ``uses-disk`` and ``sends``:
    it moved data all the time. ``short-lived``: much of its use is by children too short-lived to
    be seen.
    """
    processes, each_s = series.processes, series.machine.interval_s

    def usual(rates: Floats) -> float:
        return float(np.average(rates[:, application], weights=each_s))

    moved = usual(processes.read_bytes_per_s) + usual(processes.write_bytes_per_s)
    cores, short = usual(processes.all_cores), usual(processes.short_lived_cores)
    found = {
        "scheduled": origin.by in ("timer", "job"),
        "background": origin.by in ("boot", "service", "login", "timer", "job"),
        "low-priority": bool(processes.low_priority[application] >= LOW_PRIORITY_SHARE),
        "uses-disk": moved >= USES_DISK,
        "sends": usual(series.sent_bytes_per_s) >= SENDS,
        "short-lived": cores >= MATTERS_CORES and short / cores >= SHORT_LIVED_SHARE,
    }
    return frozenset(sign for sign, there in found.items() if there)


def _first_by(fits: Callable[[Kind], bool], by: By) -> Recognised | None:
    kind = next((kind for kind in catalogue() if fits(kind)), None)
    return Recognised(kind, by) if kind else None


def _fit(pattern: re.Pattern[str], names: set[str]) -> bool:
    return any(pattern.match(name) for name in names)
