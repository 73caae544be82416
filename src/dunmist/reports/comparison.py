"""A comparison laid out: the answer, the figures with their intervals, and what came and went."""

import msgspec

from dunmist.advice import Compared, ComparedFigure, compared_amount, tell_unusual
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

HEADINGS = {
    "before-and-after": ("Before", "After", "Change (95 %)"),
    "normal-and-now": ("Usually", "Now", "Usual range (95 %)"),
}
LISTS = {
    "before-and-after": {"new": "Came", "gone": "Went", "stayed": "Stayed"},
    "normal-and-now": {"new": "New", "gone": "Missing", "replaced": "Replaced"},
}
LOST = "clock lost to heat"
REST = {
    "before-and-after": "{count} {other}figures differ by no more than chance, or by too little to "
    "matter.",
    "normal-and-now": "{count} {other}figures are in their usual range.",
}
SAYS = {"used": "used", "held-up": "tasks waited", "temperature": "temperature at equal use",
        "clock": "clock at equal use", "cores": "processor time", "memory": "memory",
        "disk": "disks", "network": "network"}  # fmt: skip


def comparison_json(found: Compared) -> str:
    """Return a comparison as indented JSON with a final line break."""
    text = msgspec.json.format(msgspec.json.encode(found), indent=2).decode()
    return json_harmless(text) + "\n"


def comparison_document(found: Compared) -> Document:
    """Return a comparison as a document."""
    usual = found.question == "normal-and-now"
    answer: list[Block] = [Paragraph(found.headline, lead=True), Paragraph(_captures(found))]
    sections = [
        Section("Answer", answer),
        Section("What changed" if not usual else "What is unusual", _table(found)),
    ]
    for field, heading in LISTS[found.question].items():
        if things := getattr(found, field):
            sections.append(Section(heading, [Items([(one.text, "") for one in things])]))
    title = "Usually and now" if usual else "Before and after"
    kept = [section for section in sections if section.blocks]
    host = found.after.host or "an unnamed computer"
    return made_harmless(Document(f"{title}: {host}", "calm", kept))


def beside_normal_section(found: Unusual) -> Section:
    """Return what of a capture is not as usual as one section, with a picture of both."""
    told = tell_unusual(found)
    blocks: list[Block] = [Paragraph(told.headline), Paragraph(_captures(told))]
    if found.hindrance is None:
        blocks.append(normal_figure(found))
    blocks += _table(told)
    for field, heading in LISTS[told.question].items():
        if things := getattr(told, field):
            blocks.append(Items([(f"{heading}: {one.text}", "") for one in things]))
    return Section("Beside normal", blocks)


def _captures(found: Compared) -> str:
    after = found.after
    now = f"{after.path}: {after.ticks} ticks from {after.started}."
    if found.question == "before-and-after":
        before = found.before[0]
        return f"{before.path}: {before.ticks} ticks from {before.started}. {now}"
    left_out = ", ".join(one.path for one in found.left_out)
    rest = f" Left out, of another computer or too short: {left_out}." if left_out else ""
    return f"{len(found.before)} good captures. {now}{rest}"


def _table(found: Compared) -> list[Block]:
    """Return the figures that differ, and how many do not; programs get all of them as JSON."""
    clear = [one for one in found.figures if one.clear]
    rows = [
        [
            one.name or one.resource or "",
            LOST if one.resource == "heat" and one.what == "held-up" else SAYS[one.what],
            compared_amount(one.unit, one.before),
            compared_amount(one.unit, one.after),
            _interval(one, is_range=found.question == "normal-and-now"),
        ]
        for one in sorted(clear, key=lambda one: one.resource is None)
    ]
    blocks: list[Block] = []
    if rows:
        columns = ["What", "Figure", *HEADINGS[found.question]]
        blocks.append(TextTable("", columns, rows, frozenset((2, 3, 4))))
    rest = len(found.figures) - len(rows)
    if rest:
        blocks.append(
            Paragraph(REST[found.question].format(count=rest, other="other " if rows else ""))
        )
    return blocks


def _interval(one: ComparedFigure, *, is_range: bool) -> str:
    # a difference of shares is in points, and no part of anything
    if one.unit == "share" and not is_range:
        return f"{100 * one.low:.0f} to {100 * one.high:.0f} points"
    low, high = (compared_amount(one.unit, bound) for bound in (one.low, one.high))
    return f"{low} to {high}"
