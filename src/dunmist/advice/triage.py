"""The triage as the contract has it: what ``triage --json`` prints, field for field."""

from typing import Literal, get_args

import msgspec

from dunmist.diagnosis import FreedUnit, LevelWord, ResourceWord, Role, Severity

FORMAT = "dunmist-triage"
# raised when a key of report.json is removed or changes its meaning
VERSION = 1
Risk = Literal["none", "reversible", "disruptive"]
RISKS: tuple[Risk, ...] = get_args(Risk)


class Evidence(msgspec.Struct, frozen=True):
    """One figure behind a claim, in words and as a number with its unit and source."""

    text: str
    value: float
    unit: str
    source: str


class Frees(msgspec.Struct, frozen=True):
    """Amount that would be free: an estimate from use during the capture."""

    resource: ResourceWord
    value: float
    unit: FreedUnit


class Step(msgspec.Struct, frozen=True):
    """One step of the ladder."""

    action: str  # its name for 'dunmist fix do'
    text: str
    command: str | None  # of the shell; None if a person has to act
    risk: Risk
    undo: str | None  # None if nothing can undo it
    check: str  # how to see that it worked
    frees: Frees | None = None  # None if it frees nothing or the amount is unknown


class PartFacts(msgspec.Struct, frozen=True):
    """The part of a capture that was judged, in seconds after its first tick."""

    since_s: float
    until_s: float


class CaptureFacts(msgspec.Struct, frozen=True, omit_defaults=True):
    """The capture that the figures come from."""

    path: str
    host: str | None
    started: str  # ISO 8601 with the offset of the patient's zone
    duration_s: float
    ticks: int
    privileged: bool
    part: PartFacts | None = None  # None if all of the capture was judged


class Worst(msgspec.Struct, frozen=True):
    """The worst of load and findings; ``what`` is a resource or a kind of finding."""

    source: Literal["resource", "finding", "nothing"] = msgspec.field(name="from")
    what: str | None
    severity: Severity | None


class Verdict(msgspec.Struct, frozen=True):
    """The answer in one sentence, and what it says.

    The headline begins with what is worst. ``answer`` is the sentence that answers a complaint,
    None without one.
    """

    headline: str
    level: LevelWord
    limiting: ResourceWord | None
    confidence: float
    worst: Worst
    answer: str | None

    @property
    def spoken(self) -> str:
        """The answer to the complaint, and the headline."""
        return f"{self.answer} {self.headline}" if self.answer else self.headline


class ResourceAdvice(msgspec.Struct, frozen=True):
    """Degree to which one resource limits the work; None is 'unknown'."""

    resource: ResourceWord
    name: str | None  # the device or mount point, None if there is only one
    level: LevelWord
    used: float  # share, 0 to 1
    pressure: float | None  # share of time in which tasks waited for it
    errors: int | None  # counted over the capture
    evidence: list[Evidence]


class Since(msgspec.Struct, frozen=True):
    """Bounds of the time for which something can have been so."""

    at_most_s: float | None  # it cannot have done so for longer; None if nothing bounds it
    at_least_s: float  # it was seen to do so for as long
    text: str


class Doing(msgspec.Struct, frozen=True):
    """One thing that a program is doing; None is 'not measured'."""

    what: Literal["code", "thread", "started", "part", "file", "wait", "peer", "memory", "origin"]
    name: str  # kind of work, or the thread, part, file, function or address as it is called
    share: float | None  # of what the program does of that
    value: float | None
    unit: str | None
    text: str
    source: str


class CulpritAdvice(msgspec.Struct, frozen=True):
    """One ranked application with what to do about it."""

    rank: int  # 1 is the likeliest
    name: str
    pids: list[int]  # of every process that was seen, exited ones included
    users: list[str]
    unit: str | None  # service or scope, None for one of neither
    role: Role
    score: float  # share of the strain that it explains, 0 to 1
    confidence: float  # probability that it is the cause
    resources: dict[str, float]  # its share of each strained resource
    frees: Frees | None
    command: str | None  # of its main process, secrets masked
    parent: str | None  # the starter of that program, with its process number
    since: Since | None  # for how long it can have been so, None if nothing tells
    doing: list[Doing]  # the most telling first
    evidence: list[Evidence]
    steps: list[Step]
    caution: str | None  # a warning before acting, None if there is none


class FindingAdvice(msgspec.Struct, frozen=True):
    """One thing that is wrong or notable."""

    kind: str
    severity: Severity
    subject: str
    text: str
    evidence: list[Evidence]
    steps: list[Step]
    since: Since | None = None  # null where nothing tells
    doing: list[Doing] = []  # the work of its program


class BlindSpot(msgspec.Struct, frozen=True):
    """Something unreadable, the reason, and the way to read it."""

    what: str
    why: str
    remedy: str


class Triage(msgspec.Struct, frozen=True):
    """The whole document."""

    capture: CaptureFacts
    verdict: Verdict
    resources: list[ResourceAdvice]
    culprits: list[CulpritAdvice]
    findings: list[FindingAdvice]
    coverage: dict[str, float | None]
    blind_spots: list[BlindSpot]
    format: str = FORMAT
    version: int = VERSION
