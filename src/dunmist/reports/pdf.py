"""The report as PDF, A4, with outlines and real text; needs neither a browser nor fonts installed.

The font is that of Matplotlib, which holds the letters of most languages; what it lacks is shown
as a box.
"""

import io
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

from fpdf import FPDF
from fpdf.enums import TableCellFillMode
from fpdf.fonts import FontFace

from dunmist import __version__
from dunmist.advice import Step, freed_text
from dunmist.reports.document import (
    Block,
    Document,
    Figure,
    Glance,
    Items,
    Paragraph,
    Section,
    StepList,
    TextTable,
)

MARGIN_MM, LINE_MM = 16.0, 5.0
STEP_INDENT_MM = 6.0
TEXT, SMALL, LEAD, HEAD = 9.5, 8.0, 13.0, 12.0
# below this nobody reads it
LEAST = 5.0
TOO_LONG = "(a command longer than a line of paper: copy it from the report as .html or .txt)"
# sharp on paper, and small enough to be mailed
DOTS_PER_INCH, FIGURE_MOST_MM = 130, 80.0
# a table with more columns than this is set smaller
MANY_COLUMNS = 8
# a short report has so many sheets; what goes first when it has more, and where it is then
SHEETS_MOST = 3
NEEDED_LEAST = (
    "Ports",
    "How it was sampled",
    "What the culprits are",
    "What could not be seen",
    "Findings",
)
WHERE = "'dunmist report --full' and the other forms have it"
RULE = (200, 204, 210)
RISKS = {"none": "no risk", "reversible": "can be undone", "disruptive": "disrupts work"}


class _Picture(NamedTuple):
    """A picture as it is put on paper."""

    png: bytes
    height_of_width: float


class _Page(FPDF):
    """A4 with the number of each page below; knows how high each section is."""

    def __init__(self) -> None:
        super().__init__(format="A4")
        self.height_mm: dict[str, float] = {}

    @property
    def reached_mm(self) -> float:
        """Vertical position, with all pages below one another."""
        return float(self.page_no() * self.eph + self.y)

    def footer(self) -> None:
        """Write the page number."""
        self.set_y(-12)
        self.set_font("text", size=SMALL)
        self.cell(0, 6, f"Dunmist {__version__}   {self.page_no()} / {{nb}}", align="R")


def document_pdf(document: Document) -> bytes:
    """Return the document as a PDF file; of a short one what is needed least gives way."""
    # each picture is drawn once, however often the pages are set
    pictures: dict[Figure, _Picture] = {}
    page = _pages(document, pictures)
    left_out: list[str] = []
    while document.is_short and page.page_no() > SHEETS_MOST:
        more = _more_left_out(page, left_out)
        if not more:
            break
        left_out += more
        kept = [section for section in document.sections if section.heading not in left_out]
        note = Section("Left out for room", [Paragraph(f"{', '.join(left_out)}: {WHERE}.")])
        page = _pages(replace(document, sections=[*kept, note]), pictures)
    return bytes(page.output())


def _more_left_out(page: _Page, left_out: list[str]) -> list[str]:
    """Return the sections to leave out next, the least needed first, until the rest should fit.

    Heights are those of the pages as they were set last; the caller sets them again and looks.
    """
    too_much_mm = page.y - page.t_margin + (page.page_no() - SHEETS_MOST - 1) * page.eph
    more: list[str] = []
    for heading in NEEDED_LEAST:
        if heading in left_out or heading not in page.height_mm:
            continue
        more.append(heading)
        too_much_mm -= page.height_mm[heading]
        if too_much_mm <= 0:
            break
    return more


def _pages(document: Document, pictures: dict[Figure, _Picture]) -> _Page:
    page = _Page()
    page.set_margins(MARGIN_MM, MARGIN_MM)
    page.set_auto_page_break(auto=True, margin=MARGIN_MM)
    _add_fonts(page)
    page.set_title(document.title)
    page.set_lang("en")
    page.set_draw_color(*RULE)
    page.add_page()
    page.set_font("text", "B", 10)
    page.multi_cell(0, LINE_MM, document.title, new_x="LMARGIN", new_y="NEXT")
    for section in document.sections:
        began_mm = page.reached_mm
        page.ln(2)
        if page.will_page_break(30):
            page.add_page()
        page.start_section(section.heading)
        page.set_font("text", "B", HEAD)
        page.multi_cell(0, 7, section.heading, new_x="LMARGIN", new_y="NEXT")
        for block in section.blocks:
            _put(page, block, pictures)
        page.height_mm[section.heading] = page.reached_mm - began_mm
    return page


def _add_fonts(page: FPDF) -> None:
    import matplotlib as mpl

    folder = Path(mpl.get_data_path()) / "fonts" / "ttf"
    page.add_font("text", "", str(folder / "DejaVuSans.ttf"))
    page.add_font("text", "B", str(folder / "DejaVuSans-Bold.ttf"))
    page.add_font("code", "", str(folder / "DejaVuSansMono.ttf"))


def _put(page: FPDF, block: Block, pictures: dict[Figure, _Picture]) -> None:
    if isinstance(block, Paragraph):
        page.set_font("text", "B" if block.lead else "", LEAD if block.lead else TEXT)
        page.multi_cell(
            0, 6 if block.lead else LINE_MM, block.text, align="L", new_x="LMARGIN", new_y="NEXT"
        )
        page.ln(1)
    elif isinstance(block, Items):
        for text, remark in block.items:
            _put_item(page, "–", f"{text} [{remark}]" if remark else text)
    elif isinstance(block, StepList):
        for number, step in enumerate(block.steps, start=1):
            _put_step(page, number, step)
    elif isinstance(block, Figure):
        _put_figure(page, block, pictures)
    elif not isinstance(block, Glance):
        _put_table(page, block)


def _put_item(page: FPDF, mark: str, text: str) -> None:
    page.set_font("text", "", TEXT)
    page.cell(6, LINE_MM, mark)
    page.multi_cell(0, LINE_MM, text, align="L", new_x="LMARGIN", new_y="NEXT")


def _put_step(page: FPDF, number: int, step: Step) -> None:
    _put_item(page, f"{number}.", f"{step.action}: {step.text}")
    if step.command:
        _put_code(page, "", step.command)
    if step.undo:
        _put_code(page, "undo: ", step.undo)
    page.set_font("text", "", SMALL)
    page.set_x(page.l_margin + STEP_INDENT_MM)
    freed = f"; {freed_text(step.frees.value, step.frees.unit)}" if step.frees else ""
    page.multi_cell(
        0,
        LINE_MM,
        f"{RISKS[step.risk]}{freed}; then: {step.check}",
        align="L",
        new_x="LMARGIN",
        new_y="NEXT",
    )


def _put_code(page: FPDF, title: str, command: str) -> None:
    """Put a command on one line, set smaller where needed: a part of it is another command."""
    room_mm = page.epw - STEP_INDENT_MM - 2 * page.c_margin
    page.set_font("code", "", SMALL)
    needed_mm = page.get_string_width(title + command)
    fitting = min(SMALL, SMALL * room_mm / needed_mm)
    text = title + command if fitting >= LEAST else title + TOO_LONG
    page.set_font("code", "", fitting if fitting >= LEAST else SMALL)
    page.set_x(page.l_margin + STEP_INDENT_MM)
    page.cell(0, LINE_MM, text, new_x="LMARGIN", new_y="NEXT")


def _put_figure(page: FPDF, figure: Figure, pictures: dict[Figure, _Picture]) -> None:
    picture = pictures.get(figure)
    if picture is None:
        picture = pictures[figure] = _drawn(figure)
    width, height = page.epw, page.epw * picture.height_of_width
    if height > FIGURE_MOST_MM:
        width, height = width * FIGURE_MOST_MM / height, FIGURE_MOST_MM
    if page.will_page_break(height + LINE_MM):
        page.add_page()
    page.image(io.BytesIO(picture.png), w=width, alt_text=figure.alternative)
    page.set_font("text", "", SMALL)
    page.multi_cell(0, 4, figure.alternative, align="L", new_x="LMARGIN", new_y="NEXT")
    page.ln(1)


def _drawn(figure: Figure) -> _Picture:
    from dunmist.reports.pictures import png_bytes

    canvas = figure.draw()
    return _Picture(
        png_bytes(canvas, DOTS_PER_INCH), canvas.get_figheight() / canvas.get_figwidth()
    )


def _put_table(page: FPDF, table: TextTable) -> None:
    page.set_font("text", "", SMALL)
    page.multi_cell(0, LINE_MM, table.caption, new_x="LMARGIN", new_y="NEXT")
    is_wide = len(table.columns) > MANY_COLUMNS
    page.set_font("text", "", 5.5 if is_wide else 7.5)
    aligned = tuple(
        "RIGHT" if column in table.numeric else "LEFT" for column in range(len(table.columns))
    )
    with page.table(
        col_widths=_widths(table),
        text_align=aligned,
        line_height=3.4 if is_wide else 4.2,
        borders_layout="HORIZONTAL_LINES",
        headings_style=FontFace(emphasis="BOLD"),
        cell_fill_mode=TableCellFillMode.NONE,
        padding=0.6,
    ) as made:
        for cells in (table.columns, *table.rows):
            row = made.row()
            for cell in cells:
                row.cell(cell)
    page.ln(2)


def _widths(table: TextTable) -> tuple[int, ...]:
    """Return the share of each column: its longest cell, long texts having to break."""
    rows = [table.columns, *table.rows]
    return tuple(
        min(34, max(5, *(len(row[column]) for row in rows))) for column in range(len(table.columns))
    )
