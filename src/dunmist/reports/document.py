"""The report as a document: headings, paragraphs, tables and figures, in no format yet.

Every form of the report is made from it, so that all say the same facts in the same order.
"""

from dataclasses import dataclass, field

from dunmist.advice import (
    CulpritAdvice,
    Evidence,
    ResourceAdvice,
    Step,
    Triage,
    percent,
)

# resources whose figures people ask for even when they are calm
BY_FIX = (
    "Process numbers are those of the capture and may be given away again. 'dunmist fix {path} "
    "--culprit 1 --step K' checks that they are still the same before it acts, and can undo."
)
ALWAYS_SHOWN = ("cpu", "memory")


@dataclass(frozen=True, slots=True)
class Paragraph:
    """Running text; a lead is the one sentence to remember."""

    text: str
    lead: bool = False


@dataclass(frozen=True, slots=True)
class Items:
    """A list of sentences, each with a remark that may be empty."""

    items: list[tuple[str, str]]


@dataclass(frozen=True, slots=True)
class Table:
    """A table with a caption; numbers are right-aligned by column."""

    caption: str
    columns: list[str]
    rows: list[list[str]]
    numeric: frozenset[int] = frozenset()


@dataclass(frozen=True, slots=True)
class StepList:
    """Steps of a ladder, safest first."""

    steps: list[Step]


@dataclass(frozen=True, slots=True)
class Figure:
    """A picture as SVG with what it shows in words."""

    svg: str
    alternative: str


Block = Paragraph | Items | Table | StepList | Figure


@dataclass(frozen=True, slots=True)
class Section:
    """One heading and what stands below it."""

    heading: str
    blocks: list[Block] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Document:
    """The whole report."""

    title: str
    level: str
    sections: list[Section]


def triage_document(triage: Triage, figures: list[Figure] | None = None) -> Document:
    """Return the report of a triage; ``figures`` stand beside the reasons."""
    sections = [
        _verdict(triage),
        _what_to_do(triage),
        _why(triage, figures or []),
        _ranking(triage),
        _findings(triage),
        _unseen(triage),
        _sampling(triage),
    ]
    title = f"Triage of {triage.capture.host or 'an unnamed computer'}"
    return Document(title, triage.verdict.level, [one for one in sections if one.blocks])


def _verdict(triage: Triage) -> Section:
    return Section("Verdict", [Paragraph(triage.verdict.headline, lead=True)])


def _what_to_do(triage: Triage) -> Section:
    if not triage.culprits:
        steps = [step for finding in triage.findings for step in finding.steps]
        if steps:
            return Section("What to do", [StepList(steps)])
        text = (
            "Nothing needs to be done about the load."
            if triage.verdict.limiting is None
            else "Look at the findings below; no single program can be acted on."
        )
        return Section("What to do", [Paragraph(text)])
    first = triage.culprits[0]
    blocks: list[Block] = []
    if first.caution:
        blocks.append(Paragraph(f"Caution: {first.caution}"))
    blocks.append(StepList(first.steps))
    if any(step.command for step in first.steps):
        blocks.append(Paragraph(BY_FIX.format(path=triage.capture.path)))
    return Section("What to do", blocks)


def _why(triage: Triage, figures: list[Figure]) -> Section:
    blocks: list[Block] = list(figures)
    blocks.append(
        Table(
            "Resources",
            ["Resource", "About", "Level", "Used", "Work held up"],
            [
                [
                    one.resource,
                    one.name or "",
                    one.level,
                    percent(one.used),
                    _pressure_text(one),
                ]
                for one in triage.resources
            ],
            frozenset((3, 4)),
        )
    )
    for one in triage.resources:
        if one.level != "calm" or one.resource in ALWAYS_SHOWN:
            blocks.append(_evidence(one.evidence))
    return Section("Why", blocks)


def _pressure_text(one: ResourceAdvice) -> str:
    if one.pressure is None:
        return "unknown"
    # heat holds work up by taking clock, not by making it wait
    return f"{percent(one.pressure)} of the {'clock' if one.resource == 'heat' else 'time'}"


def _ranking(triage: Triage) -> Section:
    if not triage.culprits:
        return Section("Culprits")
    table = Table(
        "Culprits",
        ["Rank", "Application", "Role", "Part in the strain", "Confidence", "Users", "Processes"],
        [
            [
                str(one.rank),
                one.name,
                one.role,
                percent(one.score),
                percent(one.confidence),
                ", ".join(one.users),
                _pids(one),
            ]
            for one in triage.culprits
        ],
        frozenset((0, 3, 4)),
    )
    blocks: list[Block] = [table]
    for one in triage.culprits:
        blocks.append(Paragraph(f"{one.rank}. {one.name}"))
        blocks.append(_evidence(one.evidence))
    return Section("Culprits", blocks)


def _findings(triage: Triage) -> Section:
    blocks: list[Block] = []
    for one in triage.findings:
        blocks.append(Paragraph(f"{one.severity}: {one.text}"))
        blocks.append(_evidence(one.evidence))
    return Section("Findings", blocks)


def _unseen(triage: Triage) -> Section:
    spots = [(f"{one.what}: {one.why}", f"to see it: {one.remedy}") for one in triage.blind_spots]
    return Section("What could not be seen", [Items(spots)] if spots else [])


def _sampling(triage: Triage) -> Section:
    facts = triage.capture
    covered = [
        f"{percent(share)} of the {name} figures that the kernel counted were attributed"
        for name, share in triage.coverage.items()
        if share is not None
    ]
    rights = "as administrator" if facts.privileged else "without administrator rights"
    return Section(
        "How it was sampled",
        [
            Paragraph(
                f"{facts.ticks} ticks over {facts.duration_s:g} s from {facts.started}, {rights}."
            ),
            Items([(text, "") for text in covered]),
        ],
    )


def _evidence(evidence: list[Evidence]) -> Items:
    return Items([(one.text, one.source) for one in evidence])


def _pids(culprit: CulpritAdvice, most: int = 8) -> str:
    shown = ", ".join(map(str, culprit.pids[:most]))
    more = len(culprit.pids) - most
    return f"{shown} and {more} more" if more > 0 else shown
