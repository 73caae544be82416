"""Define the rows that are kept of each capture and history of a fleet, with their schema.

``SCHEMA_VERSION`` is raised when a column changes its meaning or goes; docs/fleet.md lists them.
"""

import msgspec

SCHEMA_VERSION = 1


class CaptureRow(msgspec.Struct, frozen=True):
    """One capture of a fleet."""

    key: str  # hash of its contents
    place: str  # address it was read from
    site: str  # folder below the place: a branch, a room
    trouble: str | None = None  # why it could not be read
    host: str | None = None
    started: str | None = None
    duration_s: float | None = None
    hardware: str | None = None
    processor: str | None = None
    distribution: str | None = None
    kernel: str | None = None
    memory_bytes: int | None = None
    level: str | None = None
    limiting: str | None = None
    culprit: str | None = None
    confidence: float | None = None
    headline: str | None = None
    first_step: str | None = None
    used: dict[str, float] = {}  # share by resource
    pressure: dict[str, float] = {}
    triage_json: str | None = None  # output of 'dunmist triage --json', byte for byte


class CulpritRow(msgspec.Struct, frozen=True):
    """One culprit of a capture, with the package that it came with."""

    key: str
    rank: int
    name: str
    role: str
    score: float
    confidence: float
    package: str | None = None
    version: str | None = None


class FindingRow(msgspec.Struct, frozen=True):
    """One finding of a capture."""

    key: str
    kind: str
    severity: str
    subject: str
    text: str


class PackageRow(msgspec.Struct, frozen=True):
    """One package of which something ran."""

    key: str
    package: str
    version: str | None


class ChangeRow(msgspec.Struct, frozen=True):
    """One package that was installed, upgraded or removed in the two weeks before a capture."""

    key: str
    at_s: float  # since 1970
    kind: str
    package: str
    old: str | None
    new: str | None


class HistoryRow(msgspec.Struct, frozen=True):
    """One history of a fleet."""

    key: str  # hash of its contents
    place: str
    site: str
    trouble: str | None = None
    host: str | None = None
    until_s: float | None = None  # since 1970
    days: int = 0  # on which something was recorded
    followed: list[str] = []  # figures that might drift


class DriftRow(msgspec.Struct, frozen=True):
    """One figure of a history that drifts."""

    key: str
    figure: str  # one of those that are followed
    kind: str
    name: str | None  # of the program, disk or file system
    since: str  # date
    level: float  # when it began
    now: float
    unit: str
    changes: list[str]  # changes made at about that time


class CaptureRecord(msgspec.Struct, frozen=True, tag="capture"):
    """All that is kept of one capture."""

    capture: CaptureRow
    culprits: list[CulpritRow] = []
    findings: list[FindingRow] = []
    packages: list[PackageRow] = []
    changes: list[ChangeRow] = []

    @property
    def file(self) -> CaptureRow:
        """Facts of the file itself."""
        return self.capture


class HistoryRecord(msgspec.Struct, frozen=True, tag="history"):
    """All that is kept of one history."""

    history: HistoryRow
    drifts: list[DriftRow] = []

    @property
    def file(self) -> HistoryRow:
        """Facts of the file itself."""
        return self.history


Record = CaptureRecord | HistoryRecord
