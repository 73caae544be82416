"""Recognises what kind of work an application does: by name, by unit, or by its traits."""

import re
from collections.abc import Callable
from typing import Literal, NamedTuple

from dunmist.advice.catalogue import WorkKind, catalogue
from dunmist.advice.origin import Origin
from dunmist.diagnosis import Thresholds
from dunmist.series import Application

# a name counts as known; a word in it or traits are a guess
By = Literal["unit", "name", "word", "traits"]
GUESSES: tuple[By, ...] = ("word", "traits")
_WORDS = re.compile(r"[^a-z]+")


class Recognised(NamedTuple):
    """A kind of the catalogue and by what it was recognised."""

    kind: WorkKind
    by: By


def recognise(application: Application, origin: Origin, limits: Thresholds) -> Recognised | None:
    """Return the kind of work of an application; None if unknown."""
    names = {process.name for process in application.members} | {application.name}
    if application.kernel:
        tasks = {process.facts.name.partition("/")[0] for process in application.members}
        return _first_by(lambda kind: _fit(kind.kernel, tasks), "name")
    traits = traits_of(application, origin, limits)
    words = {word for name in names for word in _WORDS.split(name.lower())}
    return (
        _first_by(lambda kind: _fit(kind.units, {application.unit or ""}), "unit")
        or _first_by(lambda kind: _fit(kind.names, names), "name")
        or _first_by(lambda kind: not kind.words.isdisjoint(words), "word")
        or _first_by(lambda kind: bool(kind.traits) and kind.traits <= traits, "traits")
    )


def traits_of(application: Application, origin: Origin, limits: Thresholds) -> frozenset[str]:
    """Return the traits of an application.

    ``scheduled``: a timer or a job started it. ``background``: it has neither a terminal nor a
    window of its own. ``low-priority``: most of its time it gave way. ``uses-disk`` and ``sends``:
    it moved data all the time. ``short-lived``: much of its use is by children too short-lived to
    be seen.
    """
    table = limits.signs
    cores, short = application.cores.mean(), application.short_lived_cores.mean()
    is_short = cores >= table.matters_cores and short / cores >= table.short_lived_share
    traits = {
        "scheduled": origin.by in ("timer", "job"),
        "background": origin.by in ("boot", "service", "login", "timer", "job"),
        "low-priority": application.low_priority >= table.low_priority_share,
        "uses-disk": application.disk_bytes_per_s.mean() >= table.uses_disk_bytes_per_s,
        "sends": application.sent_bytes_per_s.mean() >= table.sends_bytes_per_s,
        "short-lived": is_short,
    }
    return frozenset(sign for sign, there in traits.items() if there)


def _first_by(fits: Callable[[WorkKind], bool], by: By) -> Recognised | None:
    kind = next((kind for kind in catalogue() if fits(kind)), None)
    return Recognised(kind, by) if kind else None


def _fit(pattern: re.Pattern[str], names: set[str]) -> bool:
    return any(pattern.match(name) for name in names)
