"""The report as CommonMark with tables, for tickets. It holds no HTML."""

import re

from dunmist.reports.document import (
    Block,
    Document,
    Figure,
    Items,
    Paragraph,
    StepList,
    TextTable,
)

# everything that could be taken for markup, in text that comes from the patient's machine
_MARKUP = re.compile(r"([\\`*_{}\[\]<>#|~!&])")


def document_markdown(document: Document) -> str:
    """Return the document as Markdown."""
    lines = [f"# {escaped(document.title)}"]
    for section in document.sections:
        lines += ["", f"## {escaped(section.heading)}"]
        for block in section.blocks:
            body = _block(block)
            lines += ["", *body] if body else []
    return "\n".join(lines) + "\n"


def escaped(text: str) -> str:
    """Return text that Markdown shows as it is."""
    return _MARKUP.sub(r"\\\1", text)


def _block(block: Block) -> list[str]:
    if isinstance(block, Paragraph):
        text = escaped(block.text)
        return [f"**{text}**" if block.lead else text]
    if isinstance(block, Items):
        return [
            f"- {escaped(text)} ({escaped(remark)})" if remark else f"- {escaped(text)}"
            for text, remark in block.items
        ]
    if isinstance(block, StepList):
        lines = []
        for number, step in enumerate(block.steps, 1):
            lines.append(f"{number}. {escaped(step.text)} Risk: {step.risk}.")
            if step.command:
                lines += ["", "       " + step.command, ""]
            if step.undo:
                lines.append(f"   Undo: {escaped(step.undo)}.")
            lines.append(f"   Then: {escaped(step.check)}.")
        return lines
    if isinstance(block, Figure):
        return [f"Figure: {escaped(block.alternative)}"]
    return _table(block)


def _table(table: TextTable) -> list[str]:
    marks = ["---:" if column in table.numeric else "---" for column in range(len(table.columns))]
    rows = [table.columns, *table.rows]
    cells = [" | ".join(escaped(cell) for cell in row) for row in rows]
    return [f"| {cells[0]} |", f"| {' | '.join(marks)} |", *(f"| {row} |" for row in cells[1:])]
