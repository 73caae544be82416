"""Define the answer of a judging child on a window of a capture, and the pages that show it.

``jobs/desk_judgement.py`` makes it of the same triage and tables as ``triage`` and ``view``.
"""

from typing import NamedTuple

import msgspec

# how the last line of 'fix show' begins where a step would be refused now
REFUSED_NOW = "it would be refused now: "


class PageTopic(NamedTuple):
    """A page: its title, the topics of ``view`` that it has, and the form of the processes."""

    title: str
    topics: tuple[str, ...]
    form: str | None = None


FINDINGS = "findings"
# in the order of the keys that lead to them; the first is live
PAGES: tuple[PageTopic, ...] = (
    PageTopic("now", ()),
    PageTopic(FINDINGS, ()),
    PageTopic("applications", ("processes",)),
    PageTopic("processes", ("processes",), "each"),
    PageTopic("tree", ("processes",), "tree"),
    PageTopic("doing", ("doing",)),
    PageTopic("memory", ("memory",)),
    PageTopic("disks", ("disks",)),
    PageTopic("network", ("links",)),
    PageTopic("ports", ("ports",)),
    PageTopic("heat", ("heat",)),
    PageTopic("services", ("services",)),
    PageTopic("start-up", ("autostart", "boot")),
    PageTopic("changes", ("changes",)),
    PageTopic("log", ("messages", "timeline")),
)


class PageColumn(msgspec.Struct, frozen=True):
    """One column; ``is_usual`` says whether it is shown without being asked for."""

    name: str
    heading: str
    meaning: str
    is_numeric: bool
    is_usual: bool
    unit: str = ""  # of the exact figure; nothing where cells say it, or for a text


class PageRow(msgspec.Struct, frozen=True):
    """One row: what tells it from others, its cells as figures and as people read them."""

    key: str
    values: list[float | str | None]
    texts: list[str]
    pid: int | None = None
    name: str | None = None  # of an application or a service
    finding: int | None = None  # its index among the findings
    # of a service, a timer or a login entry: what to ask for, and what is known
    named: str | None = None
    lines: list[str] = []
    parts: list["PageRow"] = []  # of an application: its processes, in the same columns


class PageTable(msgspec.Struct, frozen=True):
    """One table of a page."""

    name: str
    about: str
    columns: list[PageColumn]
    rows: list[PageRow]


class ShownStep(msgspec.Struct, frozen=True):
    """One step, as far as a list shows it."""

    action: str
    risk: str
    text: str


class ShownFinding(msgspec.Struct, frozen=True):
    """One finding with its evidence and its steps."""

    kind: str
    severity: str
    text: str
    evidence: list[str]
    steps: list[ShownStep]
    is_only: bool  # of its kind


class Suspect(msgspec.Struct, frozen=True):
    """A culprit in a line: who, how sure, doing what, since when."""

    rank: int
    name: str
    role: str
    pid: int | None
    confidence: float
    why: str


class Judgement(msgspec.Struct, frozen=True):
    """All that is shown of a window; times are seconds after the first tick."""

    since_s: float
    until_s: float
    cpu_s: float  # that judging took
    host: str
    level: str
    limiting: str | None
    confidence: float
    headline: str
    answer: str | None
    complaints: list[str]  # that the note was understood as
    missing: str  # the missing data that would raise the confidence; empty if it is high
    suspects: list[Suspect]
    worst_finding: int | None  # its index, where the answer begins with a finding
    findings: list[ShownFinding]
    pages: dict[str, list[PageTable]]
