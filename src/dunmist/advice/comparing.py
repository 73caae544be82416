"""Puts comparisons into words: one sentence first, then each figure with its interval.

Takes a ``Comparison`` or what is ``Unusual``, gives the document that programs get as JSON and
``reports`` lays out.
"""

import tomllib
from collections.abc import Sequence
from functools import cache
from importlib.resources import files
from typing import Any, Literal

import msgspec

from dunmist.advice.amounts import cores_text, percent, size_text
from dunmist.advice.evidence import evidence_of, rounded
from dunmist.advice.recent_changes import change_text
from dunmist.advice.resource_words import resource_name
from dunmist.advice.template_values import finding_text, subject_of
from dunmist.compare import Comparison, Difference, Examined, Figure, Hindrance, Odd, Range, Unusual
from dunmist.diagnosis import Finding

WHICH = ("first", "second")
# so many differences stand in the sentence, and so many new things
SAID_MOST, NAMED_MOST = 2, 4
HZ_PER_MHZ = 1e6
# findings that no single capture gives
ONLY_HERE = ("cooling-worse",)
LOST_CLOCK = ("heat", "held-up")
# the figures that an application has of a resource
TAKEN_OF: dict[str, str] = {
    "cpu": "cores",
    "core": "cores",
    "heat": "cores",
    "memory": "memory",
    "swap": "memory",
    "disk": "disk",
    "link": "network",
}


class ComparedCapture(msgspec.Struct, frozen=True):
    """One of the captures."""

    path: str
    host: str | None
    started: str
    duration_s: float
    ticks: int


class ComparedFigure(msgspec.Struct, frozen=True):
    """One figure in SI units, before and after or usual and now."""

    what: str
    resource: str | None  # None for a figure of an application
    name: str | None
    unit: str
    before: float
    after: float
    low: float  # 95 % interval of the difference, or the usual range
    high: float
    clear: bool  # neither chance nor too small to matter
    text: str


class ComparedThing(msgspec.Struct, frozen=True):
    """A finding, or something that is new, missing or replaced."""

    kind: str
    subject: str
    text: str


class Compared(msgspec.Struct, frozen=True, kw_only=True):
    """A comparison in words; ``before`` are several captures if it asks what is usual."""

    format: str = "dunmist-comparison"
    version: int = 1
    question: Literal["before-and-after", "normal-and-now"]
    answer: Literal[
        "better", "worse", "no clear change", "as usual", "unusual", "cannot be compared"
    ]
    headline: str
    before: list[ComparedCapture]
    after: ComparedCapture
    figures: list[ComparedFigure]
    new: list[ComparedThing] = []
    gone: list[ComparedThing] = []
    stayed: list[ComparedThing] = []
    replaced: list[ComparedThing] = []
    changed: list[ComparedThing] = []  # packages and settings in between, by the system's own word
    left_out: list[ComparedCapture] = []
    hours: int | None = None  # of the history, where that is what is usual


@cache
def _words() -> dict[str, Any]:
    text = (files("dunmist.advice") / "comparing.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


def describe_comparison(comparison: Comparison) -> Compared:
    """Describe the changes between two captures."""
    figures = [_difference(difference, comparison.after) for difference in comparison.differences]
    return Compared(
        question="before-and-after",
        answer=comparison.answer,
        headline=_comparison_headline(comparison),
        before=[_capture(comparison.before)],
        after=_capture(comparison.after),
        figures=figures,
        new=[_came(change) for change in comparison.came],
        gone=[_finding(finding) for finding in comparison.went],
        stayed=[_finding(finding) for finding in comparison.stayed],
        changed=_changed_between([comparison.before], comparison.after),
    )


def describe_unusual(unusual: Unusual) -> Compared:
    """Describe the unusual figures of a capture."""
    answer: Literal["as usual", "unusual", "cannot be compared"] = "as usual"
    if unusual.hindrance is not None:
        answer = "cannot be compared"
    elif unusual.outside or unusual.findings or unusual.new or unusual.missing or unusual.replaced:
        answer = "unusual"
    return Compared(
        question="normal-and-now",
        answer=answer,
        headline=_unusual_headline(unusual),
        before=[_capture(capture) for capture in unusual.normal],
        after=_capture(unusual.now),
        figures=[_range(usual, unusual.now) for usual in unusual.ranges],
        new=[*map(_came, unusual.findings), *map(_odd, unusual.new)],
        gone=[_odd(missing) for missing in unusual.missing],
        replaced=[_odd(replaced) for replaced in unusual.replaced],
        changed=_changed_between(unusual.normal, unusual.now) if unusual.normal else [],
        left_out=[_capture(capture) for capture in unusual.left_out],
        hours=unusual.hours,
    )


def _changed_between(before: Sequence[Examined], after: Examined) -> list[ComparedThing]:
    """Return the changes on the computer since the last capture of before, from its own records."""
    since_s = max((capture.series.surveyed.ended_s for capture in before), default=0.0)
    return [
        ComparedThing(change.kind, change.what, change_text(change))
        for change in after.series.surveyed.changes
        if change.at_s > since_s
    ]


def _comparison_headline(comparison: Comparison) -> str:
    words = _words()["answer"]
    if comparison.hindrance is not None:
        return _hindered(comparison.hindrance, (comparison.before, comparison.after))
    clear = comparison.clear
    # the limiting resource and its causes
    of_resources = [entry for entry in clear if entry.figure.resource]
    # of several that moved in different ways, the entry that the answer goes by
    first = sorted(
        of_resources, key=lambda difference: _is_worse(difference) != (comparison.answer == "worse")
    )[:1]
    taken = TAKEN_OF.get(first[0].figure.resource or "cpu") if first else None
    # only what moved the same way belongs to the answer
    is_worse = comparison.answer == "worse"
    theirs = [
        entry for entry in clear if not entry.figure.resource and _is_worse(entry) == is_worse
    ]
    first += sorted(theirs, key=lambda difference: difference.figure.what != taken)[:1]
    most = "; ".join(
        _figure_text(shown.figure, shown.before, shown.after, comparison.after) for shown in first
    )
    if comparison.answer == "no clear change":
        other = str(words["other"]).format(most=most) if most else ""
        return str(words["unchanged"]).format(other=other)
    return str(words[comparison.answer]).format(most=most)


def _is_worse(difference: Difference) -> bool:
    # more of anything is worse, but of the clock
    return (difference.change > 0) != (difference.figure.what == "clock")


def _unusual_headline(unusual: Unusual) -> str:
    words = _words()
    if unusual.hindrance is not None:
        return _hindered(unusual.hindrance, (*unusual.normal, unusual.now))
    said = [_came(finding).text.removesuffix(".") for finding in unusual.findings]
    said += [
        _figure_text(usual_range.figure, usual_range.usual, usual_range.now, unusual.now)
        for usual_range in unusual.outside
    ]
    changed = "; ".join(
        words["things"][key].format(names=_names(odd))
        for key, odd in (
            ("new", unusual.new),
            ("missing", unusual.missing),
            ("replaced", unusual.replaced),
        )
        if odd
    )
    if said:
        most = "; ".join([*said[:SAID_MOST], *([changed] if changed else [])])
        return str(words["answer"]["unusual"]).format(most=most)
    if changed:
        return str(words["answer"]["unusual-things"]).format(changed=changed)
    if unusual.hours is not None:
        return str(words["answer"]["usual-hours"]).format(count=unusual.hours)
    return str(words["answer"]["usual"]).format(count=len(unusual.normal))


def _names(odd: Sequence[Odd]) -> str:
    named = ", ".join(_odd(unusual_name).text for unusual_name in odd[:NAMED_MOST])
    more = len(odd) - NAMED_MOST
    return f"{named} and {more} more" if more > 0 else named


def _hindered(hindrance: Hindrance, captures: Sequence[Examined]) -> str:
    """Return why captures cannot be compared; the last one is that of after, or of now."""
    first, last = captures[0], captures[-1]
    exam = last if hindrance.of else first
    why = str(_words()["hindrance"][hindrance.obstacle]).format(
        which="last" if hindrance.of and len(captures) > len(WHICH) else WHICH[hindrance.of or 0],
        count=exam.series.line.intervals,
        intervals=f"{last.limits.intervals_least:g}",
        good=len(captures) - 1,
        captures=f"{last.limits.captures_least:g}",
        before=first.series.header.machine.host or "an unnamed one",
        after=last.series.header.machine.host or "an unnamed one",
    )
    return str(_words()["answer"]["hindered"]).format(why=why)


def _difference(difference: Difference, after: Examined) -> ComparedFigure:
    means, interval = (difference.before, difference.after), (difference.low, difference.high)
    return _compared_figure(difference.figure, means, interval, after, clear=difference.is_clear)


def _range(usual_range: Range, now: Examined) -> ComparedFigure:
    means, interval = (usual_range.usual, usual_range.now), (usual_range.low, usual_range.high)
    return _compared_figure(usual_range.figure, means, interval, now, clear=usual_range.is_outside)


def _compared_figure(
    figure: Figure,
    means: tuple[float, float],
    interval: tuple[float, float],
    at: Examined,
    *,
    clear: bool,
) -> ComparedFigure:
    before, after = means
    return ComparedFigure(
        what=figure.what,
        resource=figure.resource,
        name=figure.name,
        unit=figure.unit,
        before=rounded(before),
        after=rounded(after),
        low=rounded(interval[0]),
        high=rounded(interval[1]),
        clear=clear,
        text=_figure_text(figure, before, after, at),
    )


def _figure_text(figure: Figure, before: float, after: float, at: Examined) -> str:
    name = figure.name or ""
    if figure.resource is not None:
        resource = resource_name(figure.resource)
        name = f"{resource} ({figure.name})" if figure.name else resource
    # heat lowers the clock
    key = f"heat-{figure.what}" if (figure.resource, figure.what) == LOST_CLOCK else figure.what
    return str(_words()["figure"][key]).format(
        name=name,
        before=compared_amount(figure.unit, before, at),
        after=compared_amount(figure.unit, after, at),
    )


def compared_amount(unit: str, value: float, at: Examined | None = None) -> str:
    """Return a compared figure as people write it."""
    if unit == "share":
        return percent(value)
    if unit == "celsius":
        return f"{value:.0f} °C"
    if unit == "hz":
        return f"{value / HZ_PER_MHZ:.0f} MHz"
    if unit == "cores":
        whole = at.series.machine.logical_processors if at is not None else None
        return cores_text(value, whole) if whole else f"{value:.2f} cores"
    return size_text(value) + ("/s" if unit == "bytes/s" else "")


def _finding(finding: Finding) -> ComparedThing:
    return ComparedThing(finding.kind, subject_of(finding), finding_text(finding))


def _came(finding: Finding) -> ComparedThing:
    """Return a finding that is new; what only a comparison finds comes with its figures."""
    known = _finding(finding)
    if finding.kind not in ONLY_HERE:
        return known
    figures = "; ".join(item.text for item in evidence_of(finding.evidence))
    return msgspec.structs.replace(known, text=f"{known.text} ({figures})")


def _odd(odd: Odd) -> ComparedThing:
    words = _words()
    text = str(words["thing"][odd.what]).format(name=odd.name)
    if odd.like is not None:
        text = words["odd"]["like"].format(text=text, like=odd.like)
    elif odd.before is not None and odd.now is not None:
        text = words["odd"]["replaced"].format(text=text, now=odd.now, before=odd.before)
    elif odd.what == "port" and (odd.now or odd.before):
        text = words["odd"]["owner"].format(text=text, now=odd.now or odd.before)
    return ComparedThing(odd.what, odd.name, text)


def _capture(examined: Examined) -> ComparedCapture:
    header = examined.series.header
    return ComparedCapture(
        str(examined.series.path),
        header.machine.host,
        header.started,
        round(examined.series.duration_s, 3),
        examined.series.ticks,
    )
