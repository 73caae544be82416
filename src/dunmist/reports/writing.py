"""Chooses the form of a report by the ending of its name, and writes it whole or not at all."""

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from dunmist.advice import Judged
from dunmist.errors import OutputError
from dunmist.output import check_output, write_whole
from dunmist.reports.document import Document, Section, shortened
from dunmist.reports.markdown import document_markdown
from dunmist.reports.text import document_text
from dunmist.reports.triage_json import triage_json


def _html(document: Document) -> str:
    # templates and pictures are only needed here
    from dunmist.reports.html import document_html

    return document_html(document)


def _pdf(document: Document) -> bytes:
    from dunmist.reports.pdf import document_pdf

    return document_pdf(document)


# the writer of each form, by file name suffix
FORMATS: Mapping[str, Callable[[Document], str | bytes]] = {
    ".html": _html,
    ".md": document_markdown,
    ".txt": document_text,
    ".pdf": _pdf,
}
# the triage itself, for programs: it needs no document
TRIAGE_ENDING = ".json"
# forms for paper: three pages unless everything is wanted
PRINTED = (".pdf",)
ENDINGS = (*FORMATS, TRIAGE_ENDING)


def check_ending(path: Path) -> None:
    """Raise OutputError unless the ending names a form of the report."""
    if path.suffix.lower() not in ENDINGS:
        raise OutputError(f"{path}: unknown file ending; use {', '.join(ENDINGS)}")


def write_report(
    judged: Judged,
    path: Path,
    document: Document | None = None,
    *,
    more: Sequence[Section] = (),
    full: bool = False,
    force: bool = False,
) -> None:
    """Write the report, or the document that is given, in the form that the ending names.

    ``more`` are sections that follow what to do. What is printed is short unless it is to be
    ``full``.

    Raises OutputError, and then leaves nothing half-written.
    """
    check_output(path, force=force)
    ending = path.suffix.lower()
    if document is None and ending != TRIAGE_ENDING:
        # its tables need pandas, which a triage does without
        from dunmist.reports.report import report_document

        document = report_document(judged, more)
        document = document if full else fitted(document, ending)
    write_whole(path, _written(judged, ending, document), force=force)


def fitted(document: Document, ending: str) -> Document:
    """Return as much of a report as a form has room for."""
    return shortened(document) if ending in PRINTED else document


def _written(judged: Judged, ending: str, document: Document | None) -> bytes:
    if document is None or ending == TRIAGE_ENDING:
        return triage_json(judged.triage).encode()
    made = FORMATS[ending](document)
    return made if isinstance(made, bytes) else made.encode()
