"""The report as one self-contained HTML file; all text is escaped by the template engine.

Numbers of processes and ports lead to their own rows, where there are such.
"""

import re
from importlib.resources import files

from jinja2 import Environment, FunctionLoader, StrictUndefined
from markupsafe import Markup, escape

from dunmist import __version__
from dunmist.advice import freed_text
from dunmist.reports.document import Document, Figure, TextTable
from dunmist.reports.styles import LOOKS

# texts in sentences, and the numbers in a cell
_NAMED_NUMBER = re.compile(r"\b(process|port) (\d+)\b")
_NUMBER = re.compile(r"\b\d+\b")


def document_html(document: Document) -> str:
    """Return the document as HTML."""
    environment = Environment(
        loader=FunctionLoader(_template),
        autoescape=True,
        trim_blocks=True,
        lstrip_blocks=True,
        undefined=StrictUndefined,
        finalize=_unbroken,
    )
    environment.filters["kind"] = lambda block: type(block).__name__
    environment.filters["freed"] = lambda frees: freed_text(frees.value, frees.unit)
    # escaped here, so that no blank in what may be pasted is exchanged
    environment.filters["verbatim"] = escape
    # figures are made here from numbers and escaped labels, by Matplotlib
    environment.filters["drawn"] = _drawn
    environment.filters["steps"] = _steps
    listed = _listed(document)
    given: set[str] = set()
    environment.filters["row_id"] = lambda row, table: _row_id(row, table, given)
    environment.filters["told"] = lambda text: _linked(text, None, listed)
    environment.filters["linked"] = lambda cell, of: _linked(cell, of, listed)
    template = environment.get_template("report.html")
    return template.render(document=document, version=__version__, looks=LOOKS)


def _listed(document: Document) -> set[tuple[str, str]]:
    """Return the processes and ports that have a row of their own."""
    tables = (
        block
        for section in document.sections
        for block in section.blocks
        if isinstance(block, TextTable) and block.lists
    )
    return {
        (table.lists, row[column])
        for table in tables
        for column, of in table.refers.items()
        if table.lists and of == table.lists
        for row in table.rows
    }


def _row_id(row: list[str], table: TextTable, given: set[str]) -> Markup:
    """Return the attribute by which others find a row; an address is given once."""
    for column, of in table.refers.items():
        address = f"{of}-{row[column]}"
        if of == table.lists and address not in given:
            given.add(address)
            return Markup(' id="{}"').format(address)
    return Markup("")


def _linked(text: str, of: str | None, listed: set[tuple[str, str]]) -> Markup:
    """Return a text in which the numbers that have a row lead to it.

    ``of`` says what all of them are of; in running text the word before a number does.
    """
    parts, end = [], 0
    for match in (_NUMBER if of else _NAMED_NUMBER).finditer(text):
        what, number = (of, match[0]) if of else (match[1], match[2])
        if what and (what, number) in listed:
            parts += [escape(_unbroken(text[end : match.start()]))]
            parts += [Markup('<a href="#{}-{}">{}</a>').format(what, number, match[0])]
            end = match.end()
    return Markup("").join([*parts, escape(_unbroken(text[end:]))])


def _drawn(figure: Figure) -> Markup:
    from dunmist.reports.pictures import svg_text

    return Markup(svg_text(figure.draw()))  # noqa: S704 - Matplotlib escapes every text in it


def _steps(shares: list[float | None]) -> Markup:
    """Return the path of a curve of steps in a box of 100 by 20, closed at its foot."""
    if not shares:
        return Markup("")
    wide = 100 / len(shares)
    parts = []
    for index, share in enumerate(shares):
        top = 20 - 19 * (share or 0.0)
        parts.append(f"L{index * wide:.1f} {top:.1f}L{(index + 1) * wide:.1f} {top:.1f}")
    return Markup(f"M0 20{''.join(parts)}L100 20Z")  # noqa: S704 - numbers only


def _unbroken(value: object) -> object:
    # no line break between a number and its percent sign
    return value.replace(" %", "\u00a0%") if type(value) is str else value


def _template(name: str) -> str:
    return (files("dunmist.reports") / "templates" / name).read_text(encoding="utf-8")
