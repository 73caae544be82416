"""Compare a capture with the normal ranges of this computer, from captures of good times.

Of each figure the means of the good captures make a range in which one more would lie in 95 of 100
cases (prediction interval of one future observation: Hahn and Meeker 1991, Statistical Intervals,
4.8). What runs, listens, starts by itself and is installed makes sets: new is what no good capture
had, missing what all of them had.
"""

import math
from collections.abc import Iterable, Sequence
from typing import Literal, NamedTuple

import numpy as np

from dunmist.compare.comparable import Hindrance, Match, identity, shortcoming
from dunmist.compare.cooling import cooling_worse
from dunmist.compare.figures import Examined, Figure, application_figures, resource_figures
from dunmist.compare.resampling import CHANCE_MOST
from dunmist.diagnosis import CompareLimits, Finding, name_shape
from dunmist.series import Series

SetWord = Literal["program", "service", "port", "autostart", "session", "package"]


class Range(NamedTuple):
    """A figure now and its usual range."""

    figure: Figure
    now: float
    usual: float  # typical value of the normal captures
    low: float  # bounds of the usual range
    high: float
    is_outside: bool


class Odd(NamedTuple):
    """Something that is new, missing or replaced."""

    what: SetWord  # program, service, port, autostart, session or package
    name: str
    before: str | None = None  # the earlier entry, None for a new one
    now: str | None = None  # the present entry in its place
    like: str | None = None  # the usual name that a new one resembles


class Unusual(NamedTuple):
    """Figures outside their usual range; ``hindrance`` is why that is unknown.

    ``left_out`` are captures of other computers, or that tell too little; ``findings`` are of the
    comparison alone.
    """

    hindrance: Hindrance | None
    normal: list[Examined]
    now: Examined
    left_out: list[Examined]
    ranges: list[Range]
    new: list[Odd]
    missing: list[Odd]
    replaced: list[Odd]
    findings: Sequence[Finding] = ()
    hours: int | None = None  # of the history, where that is what is usual

    @property
    def outside(self) -> list[Range]:
        """The figures that are outside of their range, the most unusual first."""
        outside = [usual for usual in self.ranges if usual.is_outside]
        return sorted(
            outside,
            key=lambda usual_range: (
                usual_range.figure.resource is None,
                -abs(usual_range.now - usual_range.usual) / usual_range.figure.least,
            ),
        )


def unusual(normal: Sequence[Examined], now: Examined, match: Match = "both") -> Unusual:
    """Return the unusual figures."""
    good, left_out = list[Examined](), list[Examined]()
    for exam in normal:
        tells = identity(exam, match) == identity(now, match) and shortcoming(exam) is None
        (good if tells else left_out).append(exam)
    in_the_way = _hindrance(good, now)
    if in_the_way is not None:
        return Unusual(in_the_way, good, now, left_out, [], [], [], [])
    sets, present = [_inventory_of(exam.series) for exam in good], _inventory_of(now.series)
    known = {key for entries in sets for key in entries}
    new = [_new(key, present[key], known) for key in present if key not in known]
    missing = [
        Odd(what, name, before=sets[-1][what, name])
        for what, name in sets[-1]
        if (what, name) not in present and all((what, name) in entries for entries in sets)
    ]
    replaced = [
        Odd(what, name, before=sets[-1][what, name], now=value)
        for (what, name), value in present.items()
        if (what, name) in sets[-1] and value not in {entries.get((what, name)) for entries in sets}
    ]
    worse = cooling_worse(good, now)
    ranges, findings = _ranges(good, now), [worse] if worse else []
    return Unusual(None, good, now, left_out, ranges, new, missing, replaced, findings)


def _hindrance(good: list[Examined], now: Examined) -> Hindrance | None:
    reason = shortcoming(now)
    if reason is not None:
        return Hindrance(reason, 1)
    return Hindrance("too-few") if len(good) < now.limits.captures_least else None


def _new(key: tuple[SetWord, str], value: str | None, known: Iterable[tuple[SetWord, str]]) -> Odd:
    what, name = key
    usual = (known_name for word, known_name in known if word == what)
    like = next(
        (usual_name for usual_name in usual if name_shape(usual_name) == name_shape(name)), None
    )
    return Odd(what, name, now=value, like=like if what == "program" else None)


def _inventory_of(series: Series) -> dict[tuple[SetWord, str], str | None]:
    """Return all entries of each kind by name, with version or owner if they have one."""
    entries: dict[tuple[SetWord, str], str | None] = {}
    for application in series.applications:
        if application.living and not (application.kernel or application.observer):
            entries["program", application.name] = None
    for unit in series.surveyed.units:
        if unit.active == "active" and unit.name.endswith(".service"):
            entries["service", unit.name] = None
    for socket in series.sockets:
        if socket.listens and not socket.ended and socket.facts.local_port is not None:
            owners = sorted({series.processes[owner].name for owner in socket.owners})
            port = f"{socket.facts.protocol} {socket.facts.local_port}"
            entries["port", port] = ", ".join(owners) or None
    for entry in series.surveyed.autostart:
        if entry.enabled:
            entries["autostart", entry.name] = entry.command
    for survey in series.surveyed.surveys:
        for session in survey.sessions:
            name = f"{session.user} from {session.origin}" if session.origin else session.user
            entries["session", name] = None
        for package in survey.packages:
            entries["package", package.name] = package.version
    return entries


def _ranges(good: list[Examined], now: Examined) -> list[Range]:
    by_figure: dict[tuple[str, str | None, str | None], list[Figure]] = {}
    for exam in good:
        for figure in (*resource_figures(exam, now), *application_figures(exam, now)):
            if len(figure.before) and len(figure.after):
                key = (figure.what, figure.resource, figure.name)
                by_figure.setdefault(key, []).append(figure)
    pairs = []
    for figures in by_figure.values():
        figure, means = figures[-1], [float(figure.before.mean()) for figure in figures]
        if figure.resource is None:
            # an application that nobody notices at any time is not compared
            if not any(figure.is_seen for figure in figures):
                continue
            # neither that capture nor the one of now had it
            means += [0.0] * (len(good) - len(means))
        if len(means) >= now.limits.captures_least:
            pairs.append((figure, means))
    return ranges_of(pairs, now.limits)


def ranges_of(
    pairs: Iterable[tuple[Figure, Sequence[float]]], limits: CompareLimits
) -> list[Range]:
    """Return the range of each figure, from its means in good times, and whether now is outside."""
    from scipy.stats import false_discovery_control, t

    ranges, chances = [], []
    for figure, means in pairs:
        count = len(means)
        spread = max(float(np.std(means, ddof=1)), limits.spread_least * figure.least)
        wide = spread * math.sqrt(1 + 1 / count)
        usual, current = float(np.mean(means)), float(figure.after.mean())
        reach = wide * float(t.ppf(1 - CHANCE_MOST / 2, count - 1))
        chances.append(2 * float(t.sf(abs(current - usual) / wide, count - 1)))
        # no figure is less than nothing
        low = max(0.0, usual - reach)
        ranges.append(Range(figure, current, usual, low, usual + reach, is_outside=False))
    if not ranges:
        return []
    likely = false_discovery_control(chances, method="bh")
    return [
        usual_range._replace(
            is_outside=bool(
                chance <= CHANCE_MOST
                and abs(usual_range.now - usual_range.usual) >= usual_range.figure.least
            )
        )
        for usual_range, chance in zip(ranges, likely, strict=True)
    ]
