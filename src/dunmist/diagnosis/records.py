"""Define the records of a diagnosis: figures and keys; ``advice`` has the words for them."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from dunmist.diagnosis.words import (
    EvidenceKey,
    FreedUnit,
    Kind,
    LevelWord,
    ResourceWord,
    Role,
    Severity,
)
from dunmist.series import Application, Doubt, Ints, Rate
from dunmist.thresholds import Thresholds

# of the time that a program has run
LATER_SHARE = 0.9
# values in a sentence besides the figure: a number, a name, several names, or pairs of both
Slot = float | str | Doubt | None | list[str] | list[tuple[str, str]]


@dataclass(frozen=True, slots=True)
class EvidenceFigure:
    """One figure that a claim rests on.

    ``key`` names its declaration in ``advice/evidence.toml`` or ``resources.toml``, which has its
    unit, its source, its slots and its sentence.
    """

    key: EvidenceKey
    value: float
    slots: Mapping[str, Slot]


def figure(key: EvidenceKey, value: float, **slots: Slot) -> EvidenceFigure:
    """Return a figure with the slots of its sentence."""
    return EvidenceFigure(key, value, slots)


@dataclass(frozen=True, slots=True)
class Trace:
    """One resource over the intervals of a capture.

    ``used`` and ``pressure`` are shares, ``levels`` the indices of each interval's own level among
    the words, shape (intervals,); what lasts is the state's, not the trace's.
    """

    used: Rate
    pressure: Rate | None
    levels: Ints


@dataclass(frozen=True, slots=True)
class ResourceState:
    """Degree to which one resource limits the work."""

    resource: ResourceWord
    level: LevelWord
    used: float  # the lasting share, 0 to 1
    pressure: float | None  # None if it cannot be measured
    evidence: list[EvidenceFigure]
    name: str | None = None  # of the device, None if there is only one
    errors: int | None = None
    trace: Trace | None = None  # None for what is not read at every tick


class Freed(NamedTuple):
    """An amount of a resource, in SI units or shares."""

    resource: ResourceWord
    value: float
    unit: FreedUnit


class Onset(NamedTuple):
    """Longest and shortest time for which it can have been so."""

    at_most_s: float | None  # None if nothing bounds it
    at_least_s: float
    running_s: float | None  # how long its oldest process has run, or the computer
    of: Literal["program", "computer", "log"] = "program"  # the total or record that it comes from

    @property
    def is_later(self) -> bool:
        """Whether it began well after the program: as long as that runs is no news."""
        return (
            self.running_s is not None
            and self.at_most_s is not None
            and self.at_most_s < LATER_SHARE * self.running_s
        )

    @property
    def is_news(self) -> bool:
        """Whether it says more than that it may always have been so."""
        return self.is_later or self.of == "log"


@dataclass(frozen=True, slots=True)
class Culprit:
    """An application and its part in the strain."""

    application: Application
    role: Role
    score: float  # share of the strain, 0 to 1
    # probability that it is the cause; of partners, that one of them is
    confidence: float
    resources: dict[ResourceWord, float]  # its share of each strained resource
    evidence: list[EvidenceFigure]
    frees: Freed | None  # of the limiting resource; None if it cannot be stopped
    onset: Onset | None = None  # since when it can have been so; None if nothing tells
    is_partner: bool = False  # one of several leading causes that explain about as much

    @property
    def name(self) -> str:
        """Name to show."""
        return self.application.distinct_name


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that is wrong or notable."""

    kind: Kind
    severity: Severity
    subject: str | None  # None if the kind says it already
    evidence: list[EvidenceFigure]
    application: Application | None = None  # set where it is about one
    onset: Onset | None = None  # None if nothing tells


@dataclass(frozen=True, slots=True)
class AlsoStrained:
    """A strained resource besides the limiting one, and who drives it, None if nobody does."""

    state: ResourceState
    driver: Culprit | None


@dataclass(frozen=True, slots=True)
class Diagnosis:
    """The verdict on a capture."""

    level: LevelWord
    limiting: ResourceWord | None
    confidence: float
    resources: list[ResourceState]
    culprits: list[Culprit]
    findings: list[Finding]
    limits: Thresholds  # the thresholds by which it was judged
    # no program; then culprits are only those whose load brings it about
    external_cause: Finding | None = None
    also: AlsoStrained | None = None  # a second resource that is limited by another cause
    intervals: int = 0
    taken_share: float = 1.0  # of the planned ticks
    # None for what is not sampled
    coverage: dict[ResourceWord, float | None] = field(default_factory=dict)

    def role_of(self, application: Application) -> Role | None:
        """Return the part of an application: in the ranking, or as the sampler itself."""
        if application.observer:
            return "observer"
        return next(
            (culprit.role for culprit in self.culprits if culprit.application is application), None
        )

    @property
    def partners(self) -> list[Culprit]:
        """The leading causes that explain about as much; at least two, or none."""
        return [culprit for culprit in self.culprits if culprit.is_partner]

    @property
    def cause(self) -> Culprit | None:
        """The first culprit where it is a cause, None if nobody is."""
        first = self.culprits[0] if self.culprits else None
        return first if first and first.role == "cause" else None
