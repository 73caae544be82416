"""A comparison laid out: the answer, the figures with their intervals, and what came and went."""

import msgspec

from dunmist.advice import Compared, ComparedFigure, compared_amount, describe_unusual
from dunmist.compare import Unusual
from dunmist.harmless import json_harmless
from dunmist.reports.document import (
    Block,
    Document,
    Items,
    Paragraph,
    Section,
    TextTable,
    made_harmless,
)
from dunmist.reports.figures import normal_figure
from dunmist.timestamps import started_text

HEADINGS = {
    "before-and-after": ("Before, mean", "After, mean", "Change (95 %)"),
    "normal-and-now": ("Usually", "Now", "Usual range (95 %)"),
}
CHANGED = {"changed": "Set up or updated in between"}
LISTS = {
    "before-and-after": {"new": "Came", "gone": "Went", "stayed": "Stayed", **CHANGED},
    "normal-and-now": {"new": "New", "gone": "Missing", "replaced": "Replaced", **CHANGED},
}
LOST = "clock lost to heat"
REST = {
    "before-and-after": "{count} {other}figures differ by no more than chance, or by too little to "
    "matter.",
    "normal-and-now": "{count} {other}figures are in their usual range.",
}
SAYS = {
    "used": "used",
    "held-up": "tasks waited",
    "temperature": "temperature at equal use",
    "clock": "clock at equal use",
    "cores": "CPU time",
    "memory": "memory",
    "disk": "disks",
    "network": "network",
}


def comparison_json(compared: Compared) -> str:
    """Return a comparison as indented JSON with a final line break."""
    text = msgspec.json.format(msgspec.json.encode(compared), indent=2).decode()
    return json_harmless(text) + "\n"


def comparison_document(compared: Compared) -> Document:
    """Return a comparison as a document."""
    usual = compared.question == "normal-and-now"
    answer: list[Block] = [Paragraph(compared.headline, lead=True), Paragraph(_captures(compared))]
    sections = [
        Section("Answer", answer),
        Section("What changed" if not usual else "What is unusual", _table(compared)),
    ]
    for field, heading in LISTS[compared.question].items():
        if found := getattr(compared, field):
            sections.append(Section(heading, [Items([(item.text, "") for item in found])]))
    title = "Usually and now" if usual else "Before and after"
    kept = [section for section in sections if section.blocks]
    host = compared.after.host or "an unnamed computer"
    return made_harmless(Document(f"{title}: {host}", "calm", kept))


def before_after_section(compared: Compared) -> Section:
    """Return the effect of the acts in a capture, as one section."""
    blocks: list[Block] = [Paragraph(compared.headline), *_table(compared)]
    return Section("Before and after what was done", blocks, summary=compared.headline)


def normal_section(unusual: Unusual) -> Section:
    """Return the unusual figures of a capture as one section, with a picture of both."""
    described = describe_unusual(unusual)
    blocks: list[Block] = [Paragraph(described.headline), Paragraph(_captures(described))]
    if unusual.hindrance is None:
        blocks.append(normal_figure(unusual))
    blocks += _table(described)
    for field, heading in LISTS[described.question].items():
        if found := getattr(described, field):
            blocks.append(Items([(f"{heading}: {item.text}", "") for item in found]))
    return Section("Against normal", blocks, summary=described.headline)


def _captures(compared: Compared) -> str:
    after = compared.after
    now = f"{after.path}: {after.ticks} ticks from {started_text(after.started)}."
    if compared.question == "before-and-after":
        before = compared.before[0]
        return f"{before.path}: {before.ticks} ticks from {started_text(before.started)}. {now}"
    if compared.hours is not None:
        return f"{compared.hours} hours of the history. {now}"
    left_out = ", ".join(capture.path for capture in compared.left_out)
    rest = f" Left out, of another computer or too short: {left_out}." if left_out else ""
    return f"{len(compared.before)} good captures. {now}{rest}"


def _table(compared: Compared) -> list[Block]:
    """Return the figures that differ, and how many do not; programs get all of them as JSON."""
    clear = [figure for figure in compared.figures if figure.clear]
    rows = [
        [
            row.name or row.resource or "",
            LOST if row.resource == "heat" and row.what == "held-up" else SAYS[row.what],
            compared_amount(row.unit, row.before),
            compared_amount(row.unit, row.after),
            _interval(row, is_range=compared.question == "normal-and-now"),
        ]
        for row in sorted(clear, key=lambda entry: entry.resource is None)
    ]
    blocks: list[Block] = []
    if rows:
        columns = ["What", "Figure", *HEADINGS[compared.question]]
        blocks.append(TextTable("", columns, rows, frozenset((2, 3, 4)), keys=2))
    rest = len(compared.figures) - len(rows)
    if rest:
        blocks.append(
            Paragraph(REST[compared.question].format(count=rest, other="other " if rows else ""))
        )
    return blocks


def _interval(compared_figure: ComparedFigure, *, is_range: bool) -> str:
    bounds = compared_figure.low, compared_figure.high
    # a difference of shares is in points, and no part of anything
    if compared_figure.unit == "share" and not is_range:
        low, high = (f"{round(100 * bound)} points" for bound in bounds)
    else:
        low, high = (compared_amount(compared_figure.unit, bound) for bound in bounds)
    # the same unit is said once
    unit = high.partition(" ")[2]
    return f"{low.removesuffix(f' {unit}') if unit else low} to {high}"
