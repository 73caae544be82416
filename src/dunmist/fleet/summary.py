"""Summarize the captures of a fleet: counts with intervals, and what occurs together.

Intervals are Wilson's of 95 %. Fisher's exact test says whether computers with a trait are ill more
often than others. It is corrected for the number of traits that were tried (Holm), so a named trait
is more than chance. A computer counts once, by its newest capture.
"""

from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from dunmist.fleet.common_drifts import DriftTogether, drifts_together
from dunmist.fleet.records import CaptureRecord, CaptureRow, HistoryRecord, Record
from dunmist.fleet.shares import CHANCE_MOST, LEAST_WITH, Share, beyond_chance, share

ILL = ("strained", "choked")
# computers to see to first, and names in a sentence
FIRST_MOST, NAMED_MOST = 10, 12


class Counted(NamedTuple):
    """A word and how many computers it is true of."""

    word: str
    share: Share


class CameWith(NamedTuple):
    """Something that ill computers have more often: how many are ill with it, and without."""

    what: str
    of_with: Share
    of_without: Share
    chance: float


class First(NamedTuple):
    """A computer that needs somebody first."""

    host: str
    level: str
    headline: str
    step: str
    place: str


@dataclass(slots=True)
class Summary:
    """All that the report says."""

    captures: int = 0
    computers: int = 0
    levels: list[Counted] = field(default_factory=list)
    limiting: list[Counted] = field(default_factory=list)
    culprits: list[Counted] = field(default_factory=list)
    findings: list[Counted] = field(default_factory=list)
    came_with: list[CameWith] = field(default_factory=list)
    first: list[First] = field(default_factory=list)
    unread: list[str] = field(default_factory=list)
    histories: int = 0
    drifts: list[DriftTogether] = field(default_factory=list)


class Summing:
    """Takes records one by one and keeps of each computer its newest, without its triage."""

    def __init__(self) -> None:
        self._newest: dict[str, CaptureRecord] = {}
        self._histories: dict[str, HistoryRecord] = {}
        self._captures = 0
        self._unread: list[str] = []

    def add(self, record: Record) -> None:
        """Take one record."""
        import msgspec

        if record.file.trouble is not None:
            self._unread.append(record.file.trouble)
        if isinstance(record, HistoryRecord):
            self._add_history(record)
            return
        self._captures += 1
        capture = record.capture
        if capture.trouble is not None:
            return
        name = capture.host or capture.place
        before = self._newest.get(name)
        if before is None or (capture.started or "") >= (before.capture.started or ""):
            light = msgspec.structs.replace(capture, triage_json=None)
            self._newest[name] = msgspec.structs.replace(record, capture=light)

    def _add_history(self, record: HistoryRecord) -> None:
        about = record.history
        if about.trouble is None:
            name = about.host or about.place
            before = self._histories.get(name)
            if before is None or (about.until_s or 0.0) >= (before.history.until_s or 0.0):
                self._histories[name] = record

    def summary(self) -> Summary:
        """Return the summary of all captures."""
        kept = list(self._newest.values())
        captures = [record.capture for record in kept]
        return Summary(
            captures=self._captures,
            computers=len(kept),
            levels=_counted(Counter(capture.level or "unknown" for capture in captures), len(kept)),
            limiting=_counted(
                Counter(capture.limiting for capture in captures if capture.limiting), len(kept)
            ),
            culprits=_counted(Counter(_culprits(kept)), len(kept)),
            findings=_counted(Counter(_findings(kept)), len(kept)),
            came_with=_came_with(kept),
            first=_first(captures),
            unread=sorted(self._unread),
            histories=len(self._histories),
            drifts=drifts_together(list(self._histories.values())),
        )


def _culprits(kept: list[CaptureRecord]) -> Iterator[str]:
    for record in kept:
        for culprit in record.culprits[:1]:
            if culprit.role == "cause":
                yield f"{culprit.name} {culprit.version}" if culprit.version else culprit.name


def _findings(kept: list[CaptureRecord]) -> Iterator[str]:
    for record in kept:
        yield from {finding.kind for finding in record.findings if finding.severity != "note"}


def _counted(counts: Counter[str], of: int) -> list[Counted]:
    return [Counted(word, share(count, of)) for word, count in counts.most_common(NAMED_MOST)]


def _came_with(kept: list[CaptureRecord]) -> list[CameWith]:
    """Return the traits that ill computers have more often than the others, beyond chance."""
    ill = [record.capture.level in ILL for record in kept]
    places: dict[str, set[int]] = defaultdict(set)
    for index, record in enumerate(kept):
        for what in _properties(record):
            places[what].add(index)
    tried = {
        what: having
        for what, having in places.items()
        if LEAST_WITH <= len(having) <= len(kept) - LEAST_WITH
    }
    tested_traits = [_tested(what, having, ill) for what, having in tried.items()]
    return beyond_chance(tested_traits, len(tested_traits), CHANCE_MOST)[:NAMED_MOST]


def _properties(record: CaptureRecord) -> Iterator[str]:
    capture = record.capture
    for word, value in (
        ("hardware", capture.hardware),
        ("kernel", capture.kernel),
        ("distribution", capture.distribution),
        ("site", capture.site),
    ):
        if value:
            yield f"{word} {value}"
    for package in record.packages:
        yield f"package {package.package} {package.version or ''}".rstrip()
    for change in record.changes:
        yield f"package {change.package} {change.new or ''} {change.kind} lately".replace("  ", " ")


def _tested(what: str, having: set[int], ill: list[bool]) -> CameWith:
    from scipy.stats import fisher_exact

    ill_with = sum(ill[place] for place in having)
    ill_without = sum(ill) - ill_with
    others = len(ill) - len(having)
    table = [[ill_with, len(having) - ill_with], [ill_without, others - ill_without]]
    chance = float(fisher_exact(table, alternative="greater").pvalue)
    return CameWith(what, share(ill_with, len(having)), share(ill_without, others), chance)


def _first(captures: list[CaptureRow]) -> list[First]:
    """Return the computers that need somebody first: the worst level, then the surest."""
    order = {level: index for index, level in enumerate(ILL)}
    ill = [capture for capture in captures if capture.level in order]
    ill.sort(
        key=lambda record: (
            -order[record.level or ""],
            -(record.confidence or 0.0),
            record.host or "",
        )
    )
    return [
        First(
            record.host or "unnamed",
            record.level or "",
            record.headline or "",
            record.first_step or "",
            record.place,
        )
        for record in ill[:FIRST_MOST]
    ]
