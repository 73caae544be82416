"""What a diagnosis consists of. It carries figures and keys; ``advice`` has the words for them."""

from dataclasses import dataclass, field

from dunmist.diagnosis.words import Kind, Level, Resource, Role, Severity
from dunmist.series.rates import Floats, Ints


@dataclass(frozen=True, slots=True)
class Sign:
    """One figure that a claim rests on.

    ``key`` names its wording, ``of`` what the figure is a part of, ``source`` the file or interface
    it comes from.
    """

    key: str
    value: float
    unit: str
    source: str
    of: float | None = None
    name: str | None = None


@dataclass(frozen=True, slots=True)
class Trace:
    """One resource over the intervals of a capture, all of shape (intervals,).

    ``used`` and ``pressure`` are shares, ``levels`` the places of each interval's own level among
    the words; what lasts is the state's, not the trace's.
    """

    used: Floats
    pressure: Floats | None
    levels: Ints


@dataclass(frozen=True, slots=True)
class ResourceState:
    """How far one resource limits the work. ``pressure`` is None where nothing tells.

    ``trace`` is None for what is not read at every tick.
    """

    resource: Resource
    level: Level
    used: float
    pressure: float | None
    signs: list[Sign]
    name: str | None = None
    errors: int | None = None
    trace: Trace | None = None


@dataclass(frozen=True, slots=True)
class Culprit:
    """An application and its part in the strain, both numbers from 0 to 1."""

    application: int
    name: str
    role: Role
    score: float
    confidence: float
    resources: dict[Resource, float]
    signs: list[Sign]


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that is wrong or notable; ``application`` is its number where it is about one."""

    kind: Kind
    severity: Severity
    subject: str
    signs: list[Sign]
    application: int | None = None


@dataclass(frozen=True, slots=True)
class Diagnosis:
    """The verdict on a capture. ``coverage`` is None for what is not sampled.

    ``outside`` explains the strain by something that is no program; then nobody is a culprit.
    """

    level: Level
    limiting: Resource | None
    confidence: float
    resources: list[ResourceState]
    culprits: list[Culprit]
    findings: list[Finding]
    outside: Finding | None = None
    intervals: int = 0
    coverage: dict[Resource, float | None] = field(default_factory=dict)
