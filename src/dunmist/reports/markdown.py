"""The report as CommonMark with tables, for tickets. It holds no HTML."""

import re

from dunmist.advice import freed_text
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


def _longer_than_in(text: str, least: int = 1) -> str:
    """Return a row of backticks that cannot be ended by those in a text."""
    longest = max((len(run) for run in re.findall("`+", text)), default=0)
    return "`" * max(least, longest + 1)


def _verbatim(text: str) -> str:
    """Return text that can be copied as it is."""
    tick = _longer_than_in(text)
    # a blank inside keeps backticks at either end apart from the row; it is not shown
    inside = f" {text} " if text.startswith("`") or text.endswith("`") else text
    return f"{tick}{inside}{tick}"


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
            head = f"{number}. "
            lines.append(f"{head}**{step.action}**: {escaped(step.text)} Risk: {step.risk}.")
            inset = " " * len(head)
            if step.command:
                fence = _longer_than_in(step.command, least=3)
                lines += [inset + line for line in ("", f"{fence}sh", step.command, fence, "")]
            if step.undo:
                lines.append(f"{inset}Undo: {_verbatim(step.undo)}")
            if step.frees:
                lines.append(f"{inset}It {freed_text(step.frees.value, step.frees.unit)}.")
            lines.append(f"{inset}Then: {escaped(step.check)}.")
        return [line.rstrip() for line in lines]
    if isinstance(block, Glance):
        return []  # the sections below say the same in words
    if isinstance(block, Figure):
        return [f"Figure: {escaped(block.alternative)}"]
    return _table(block)


def _table(table: TextTable) -> list[str]:
    marks = ["---:" if column in table.numeric else "---" for column in range(len(table.columns))]
    rows = [table.columns, *table.rows]
    cells = [" | ".join(escaped(cell) for cell in row) for row in rows]
    return [f"| {cells[0]} |", f"| {' | '.join(marks)} |", *(f"| {row} |" for row in cells[1:])]
