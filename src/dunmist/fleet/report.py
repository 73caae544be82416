"""The report of a fleet: the same document for a page, for a ticket and for programs."""

from pathlib import Path

import msgspec

from dunmist.advice import percent, wording
from dunmist.fleet.common_drifts import DriftTogether
from dunmist.fleet.shares import Share
from dunmist.fleet.summary import CameWith, Counted, Summary
from dunmist.output import write_whole
from dunmist.reports.document import (
    Block,
    Document,
    Items,
    Paragraph,
    Section,
    TextTable,
    made_harmless,
)

FORMAT, VERSION = "dunmist-fleet", 1


def fleet_document(summary: Summary) -> Document:
    """Return the report."""
    ill = sum(
        level.share.computers for level in summary.levels if level.word in ("strained", "choked")
    )
    level = "strained" if ill else "calm"
    sections = [
        Section(
            "Verdict",
            [
                Paragraph(_headline(summary, ill), lead=True),
                Paragraph(
                    f"{_counted_files(summary)}; each counts once, by its newest. Intervals are "
                    "of 95 %."
                ),
            ],
        ),
        Section("What came with it", _came_with(summary.came_with)),
        Section("What drifts on many of them", _drifts(summary.drifts)),
        Section("Levels", [_table("Level", summary.levels)]),
        Section("What limits them", [_table("Resource", summary.limiting)]),
        Section("Culprits", [_table("Program and version", summary.culprits)]),
        Section("Findings", [_table("Finding", summary.findings)]),
        Section("Who needs somebody first", _first(summary)),
        Section(
            "What could not be read",
            [Items([(line, "") for line in summary.unread])] if summary.unread else [],
        ),
    ]
    kept = [section for section in sections if section.blocks]
    return made_harmless(Document("Triage of a fleet", level, kept))


def _headline(summary: Summary, ill: int) -> str:
    if not summary.computers:
        return _drift_headline(summary) or "Nothing drifts on several computers beyond chance."
    text = f"{ill} of {summary.computers} computers are strained or choked."
    if summary.came_with:
        first = summary.came_with[0]
        among, others = first.of_with, first.of_without
        text += (
            f" Most of it came with {first.what}: {among.computers} of {among.of} with it, "
            f"{others.computers} of {others.of} without it."
        )
    elif ill:
        text += " Nothing that was recorded sets them apart beyond chance."
    return f"{text} {_drift_headline(summary)}".rstrip()


def _drift_headline(summary: Summary) -> str:
    if not summary.drifts:
        return ""
    drift = summary.drifts[0]
    among = drift.computers
    return f"On {among.computers} of {among.of} computers: {_drift_text(drift)}"


def _came_with(traits: list[CameWith]) -> list[Block]:
    if not traits:
        return []
    rows = [
        [trait.what, _of(trait.of_with), _of(trait.of_without), percent(trait.chance)]
        for trait in traits
    ]
    columns = ["What", "Ill of those with it", "Ill of those without", "By chance"]
    return [
        TextTable(
            "Beyond chance, corrected for how many were tried", columns, rows, frozenset((3,))
        )
    ]


def _counted_files(summary: Summary) -> str:
    counts = []
    if summary.captures or not summary.histories:
        counts.append(f"{summary.captures} captures of {summary.computers} computers")
    if summary.histories:
        counts.append(f"histories of {summary.histories} computers")
    text = ", ".join(counts)
    return text[0].upper() + text[1:]


def _drift_text(drift: DriftTogether) -> str:
    return str(wording()["finding"][drift.kind]).format(subject=drift.name or "")


def _drifts(drifts: list[DriftTogether]) -> list[Block]:
    if not drifts:
        return []
    rows = [
        [
            _drift_text(drift),
            _of(drift.computers),
            percent(drift.chance),
            drift.since,
            f"{drift.change} (on {drift.change_on})" if drift.change else "",
        ]
        for drift in drifts
    ]
    columns = ["What", "Computers (share)", "By chance", "First since", "Changed about then"]
    caption = "Beyond chance, corrected for how many figures are followed"
    return [TextTable(caption, columns, rows, frozenset((2,)))]


def _of(share: Share) -> str:
    return f"{share.computers} of {share.of} ({percent(share.low)} to {percent(share.high)})"


def _table(what: str, counted: list[Counted]) -> TextTable:
    rows = [[count.word, _of(count.share)] for count in counted]
    return TextTable("Computers", [what, "Computers (share)"], rows)


def _first(summary: Summary) -> list[Block]:
    rows = [
        [entry.host, entry.level, entry.headline, entry.step, entry.place]
        for entry in summary.first
    ]
    columns = ["Computer", "Level", "Why", "First", "Capture"]
    return [TextTable("The worst, and the surest", columns, rows)] if rows else []


def write_reports(summary: Summary, folder: Path) -> list[Path]:
    """Write the report as a page, as Markdown and for programs; raises OutputError."""
    from dunmist.reports.html import document_html
    from dunmist.reports.markdown import document_markdown

    document = fleet_document(summary)
    whole = {"format": FORMAT, "version": VERSION, **msgspec.to_builtins(summary)}
    texts = {
        "report.html": document_html(document),
        "report.md": document_markdown(document),
        "report.json": msgspec.json.format(msgspec.json.encode(whole), indent=2).decode(),
    }
    for name, text in texts.items():
        write_whole(folder / name, text.encode(), force=True)
    return [folder / name for name in texts]
