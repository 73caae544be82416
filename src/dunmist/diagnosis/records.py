"""What a diagnosis consists of. It carries figures and keys; ``advice`` has the words for them."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from dunmist.diagnosis.savings import Freed
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import Kind, LevelWord, ResourceWord, Role, Severity
from dunmist.series import Application, Doubt, Ints, Rate

# what stands in a sentence besides the figure: a number, a name, several names, or pairs of both
Slot = float | str | Doubt | None | list[str] | list[tuple[str, str]]


@dataclass(frozen=True, slots=True)
class Sign:
    """One figure that a claim rests on.

    ``key`` names its declaration in ``advice/evidence.toml``, which has its unit, its source, its
    slots and its sentence.
    """

    key: str
    value: float
    slots: Mapping[str, Slot]


def sign(key: str, value: float, **slots: Slot) -> Sign:
    """Return a figure with what stands beside it in its sentence."""
    return Sign(key, value, slots)


@dataclass(frozen=True, slots=True)
class Trace:
    """One resource over the intervals of a capture.

    ``used`` and ``pressure`` are shares, ``levels`` the places of each interval's own level among
    the words, shape (intervals,); what lasts is the state's, not the trace's.
    """

    used: Rate
    pressure: Rate | None
    levels: Ints


@dataclass(frozen=True, slots=True)
class ResourceState:
    """How far one resource limits the work. ``pressure`` is None where nothing tells.

    ``trace`` is None for what is not read at every tick.
    """

    resource: ResourceWord
    level: LevelWord
    used: float
    pressure: float | None
    signs: list[Sign]
    name: str | None = None
    errors: int | None = None
    trace: Trace | None = None


@dataclass(frozen=True, slots=True)
class Culprit:
    """An application and its part in the strain, both numbers from 0 to 1.

    ``frees`` is what of the limiting resource would be free without it, None for what cannot go.
    """

    application: Application
    role: Role
    score: float
    confidence: float
    resources: dict[ResourceWord, float]
    signs: list[Sign]
    frees: Freed | None

    @property
    def name(self) -> str:
        """What to call it."""
        return self.application.distinct_name


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that is wrong or notable; ``application`` is set where it is about one.

    ``subject`` is the name of what it is about; None where the kind says it already.
    """

    kind: Kind
    severity: Severity
    subject: str | None
    signs: list[Sign]
    application: Application | None = None


@dataclass(frozen=True, slots=True)
class AlsoStrained:
    """A strained resource besides the limiting one, and who drives it, None where nobody does."""

    state: ResourceState
    driver: Culprit | None


@dataclass(frozen=True, slots=True)
class Diagnosis:
    """The verdict on a capture. ``coverage`` is None for what is not sampled.

    ``external_cause`` explains the strain by something that is no program; then there are no
    culprits.
    ``limits`` are the figures by which it was judged.
    """

    level: LevelWord
    limiting: ResourceWord | None
    confidence: float
    resources: list[ResourceState]
    culprits: list[Culprit]
    findings: list[Finding]
    limits: Thresholds
    external_cause: Finding | None = None
    also: AlsoStrained | None = None
    intervals: int = 0
    coverage: dict[ResourceWord, float | None] = field(default_factory=dict)

    def role_of(self, application: Application) -> Role | None:
        """Return the part of an application: in the ranking, or as the sampler itself."""
        if application.observer:
            return "observer"
        return next(
            (culprit.role for culprit in self.culprits if culprit.application is application), None
        )

    @property
    def cause(self) -> Culprit | None:
        """The first culprit where it is a cause, None where nobody is."""
        first = self.culprits[0] if self.culprits else None
        return first if first and first.role == "cause" else None
