"""The report as a document: headings, paragraphs, tables and figures, in no format yet.

Every form of the report is made from it, so that all say the same facts in the same order.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

import msgspec

from dunmist.advice import Step
from dunmist.harmless import harmless

if TYPE_CHECKING:
    from collections.abc import Callable

    from matplotlib.figure import Figure as Canvas

# rows of a table that go on paper
PAPER_ROWS = 10


@dataclass(frozen=True, slots=True)
class Paragraph:
    """Running text; a lead is the one sentence to remember."""

    text: str
    lead: bool = False
    is_detail: bool = False


@dataclass(frozen=True, slots=True)
class Items:
    """A list of sentences, each with a remark that may be empty."""

    items: list[tuple[str, str]]
    is_detail: bool = False


@dataclass(frozen=True, slots=True)
class TextTable:
    """A table with a caption."""

    caption: str
    columns: list[str]
    rows: list[list[str]]
    numeric: frozenset[int] = frozenset()  # right-aligned columns
    folded: bool = False  # a page may hide it until it is opened
    # column index to what its numbers are of: process or port
    refers: Mapping[int, str] = field(default_factory=dict)
    lists: str | None = None  # the column that other tables refer to
    is_detail: bool = False  # a picture shows the same
    keys: int = 1  # so many columns say what a row is about, and are repeated where it goes on


@dataclass(frozen=True, slots=True)
class StepList:
    """Steps of a ladder, safest first."""

    steps: list[Step]
    is_detail: bool = False


@dataclass(frozen=True, slots=True)
class Figure:
    """A picture, with what it shows in words; it is drawn by Matplotlib when a form wants it."""

    draw: "Callable[[], Canvas]"
    alternative: str


@dataclass(frozen=True, slots=True)
class Glimpse:
    """One thing over time."""

    name: str
    word: str  # its level or role
    figures: str
    shares: list[float | None]  # 0 to 1, None if unknown
    about: str = ""  # a line below it


@dataclass(frozen=True, slots=True)
class GlanceStep:
    """One of the first steps: its name, what to do, its risk, and the command that does it."""

    action: str
    text: str
    risk: str
    command: str | None
    undo: str | None


@dataclass(frozen=True, slots=True)
class Glance:
    """The top of a report: resources, their users, and the first steps.

    A page draws it; other forms say the same in their own sections.
    """

    resources: list[Glimpse]
    programs: list[Glimpse]
    steps: list[GlanceStep]


Block = Paragraph | Items | TextTable | StepList | Figure | Glance


@dataclass(frozen=True, slots=True)
class Section:
    """One heading and what stands below it."""

    heading: str
    blocks: list[Block] = field(default_factory=list)
    is_detail: bool = False
    summary: str = ""  # a sentence that is also shown next to the verdict


@dataclass(frozen=True, slots=True)
class Document:
    """The whole report; ``level`` is that of the verdict, a short one is for three sheets."""

    title: str
    level: str
    sections: list[Section]
    is_short: bool = False


def shortened(document: Document) -> Document:
    """Return the part for a few sheets of paper: no details, and the first rows of tables.

    What a page folds away is a detail, too.
    """
    sections = [
        Section(section.heading, [_cut(block) for block in section.blocks if not _is_detail(block)])
        for section in document.sections
        if not section.is_detail
    ]
    return replace(
        document, sections=[section for section in sections if section.blocks], is_short=True
    )


def _is_detail(block: Block) -> bool:
    if isinstance(block, TextTable):
        return block.folded or block.is_detail
    return isinstance(block, Paragraph | Items | StepList) and block.is_detail


def _cut(block: Block) -> Block:
    if not isinstance(block, TextTable) or len(block.rows) <= PAPER_ROWS:
        return block
    caption = f"{block.caption}; the first {PAPER_ROWS} of {len(block.rows)}"
    return replace(block, caption=caption, rows=block.rows[:PAPER_ROWS])


def made_harmless(document: Document) -> Document:
    """Return a document in which no text from the patient's machine can command a terminal."""
    return replace(
        document,
        title=harmless(document.title),
        sections=[
            replace(
                section,
                heading=harmless(section.heading),
                blocks=[_harmless_block(block) for block in section.blocks],
            )
            for section in document.sections
        ],
    )


def _harmless_block(block: Block) -> Block:
    if isinstance(block, Paragraph):
        return replace(block, text=harmless(block.text))
    if isinstance(block, Items):
        items = [(harmless(text), harmless(remark)) for text, remark in block.items]
        return replace(block, items=items)
    if isinstance(block, StepList):
        return replace(block, steps=[_harmless_step(step) for step in block.steps])
    if isinstance(block, Figure):
        return replace(block, alternative=harmless(block.alternative))
    if isinstance(block, Glance):
        return Glance(
            [replace(resource, name=harmless(resource.name)) for resource in block.resources],
            [
                replace(program, name=harmless(program.name), about=harmless(program.about))
                for program in block.programs
            ],
            [
                replace(
                    step,
                    text=harmless(step.text),
                    command=None if step.command is None else harmless(step.command),
                )
                for step in block.steps
            ],
        )
    rows = [[harmless(cell) for cell in row] for row in block.rows]
    return replace(block, caption=harmless(block.caption), rows=rows)


def _harmless_step(step: Step) -> Step:
    texts = {
        name: None if (text := getattr(step, name)) is None else harmless(text)
        for name in ("text", "command", "undo", "check")
    }
    return msgspec.structs.replace(step, **texts)
