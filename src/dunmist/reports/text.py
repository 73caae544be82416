"""The report as plain text for a terminal or a mail."""

import textwrap

from dunmist.advice import Step, freed_text
from dunmist.harmless import cut_middle
from dunmist.reports.document import (
    Block,
    Document,
    Figure,
    Glance,
    Items,
    Paragraph,
    StepList,
    TextTable,
)

# the width of a letter on paper in a fixed font
WIDTH = 96
# half of the width, so that two columns always fit
COLUMN_MOST = 48
INDENT = 2
# captions that say no more than the heading above them
OBVIOUS = ("", "Resources", "Culprits")


def document_text(document: Document) -> str:
    """Return the document as text, at most 96 characters wide where words allow it."""
    lines = [document.title, "=" * len(document.title)]
    for section in document.sections:
        lines += ["", section.heading, "-" * len(section.heading)]
        for index, block in enumerate(section.blocks):
            if (
                index
                and isinstance(block, Paragraph)
                and isinstance(section.blocks[index - 1], StepList | Items)
            ):
                lines.append("")
            lines += _block(block)
    return "\n".join(lines) + "\n"


def _block(block: Block) -> list[str]:
    if isinstance(block, Paragraph):
        return _wrapped(block.text, "", "")
    if isinstance(block, Items):
        return [
            line
            for text, remark in block.items
            for line in _wrapped(f"{text} [{remark}]" if remark else text, "  - ", "    ")
        ]
    if isinstance(block, StepList):
        return [line for number, step in enumerate(block.steps, 1) for line in _step(number, step)]
    if isinstance(block, Glance):
        return []  # the sections below say the same in words
    if isinstance(block, Figure):
        return _wrapped(f"[picture] {block.alternative}", "  ", "    ")
    return _table(block)


def _step(number: int, step: Step) -> list[str]:
    lines = _wrapped(f"{number}. {step.action}: {step.text}", "  ", "     ")
    # a pasted command stays on one line, however long: a part of it is another command
    if step.command:
        lines.append(f"     $ {step.command}")
    risk = {"none": "no risk", "reversible": "can be undone", "disruptive": "disrupts work"}[
        step.risk
    ]
    if step.undo:
        lines.append(f"     undo: {step.undo}")
    freed = f"; {freed_text(step.frees.value, step.frees.unit)}" if step.frees else ""
    return lines + _wrapped(f"({risk}{freed}; then: {step.check})", "     ", "     ")


def _table(table: TextTable) -> list[str]:
    rows = [table.columns, *table.rows]
    widths = [
        min(COLUMN_MOST, max(len(row[column]) for row in rows))
        for column in range(len(table.columns))
    ]
    lines = [f"  {table.caption}"] if table.caption not in OBVIOUS else []
    for band in _bands(widths, table.keys):
        for row in rows:
            cells = [_cell(row[column], widths[column], column in table.numeric) for column in band]
            lines.append("  " + "  ".join(cells).rstrip())
        lines.append("")
    return lines[:-1]


def _bands(widths: list[int], keys: int) -> list[list[int]]:
    """Return the columns that fit side by side; the rest comes below, after the keys."""
    bands: list[list[int]] = [[]]
    for column, width in enumerate(widths):
        taken = INDENT + sum(widths[earlier] + INDENT for earlier in bands[-1])
        if bands[-1] and taken + width > WIDTH:
            bands.append(list(range(keys)))
        bands[-1].append(column)
    return bands


def _cell(text: str, width: int, is_number: bool) -> str:
    shown = cut_middle(text, width)
    return shown.rjust(width) if is_number else shown.ljust(width)


def _wrapped(text: str, first: str, rest: str) -> list[str]:
    return textwrap.wrap(
        text, WIDTH, initial_indent=first, subsequent_indent=rest, break_on_hyphens=False
    )
