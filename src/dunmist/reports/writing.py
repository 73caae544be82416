"""Chooses the form of a report by the ending of its name, and writes it whole or not at all."""

import os
import tempfile
from pathlib import Path

from dunmist.advice import Triage
from dunmist.errors import OutputError
from dunmist.reports.document import triage_document
from dunmist.reports.markdown import document_markdown
from dunmist.reports.text import document_text
from dunmist.reports.triage_json import triage_json
from dunmist.series import Series

ENDINGS = (".html", ".md", ".json", ".txt")


def check_ending(path: Path) -> None:
    """Raise OutputError unless the ending names a form of the report."""
    if path.suffix.lower() not in ENDINGS:
        raise OutputError(f"{path}: the ending names no form; use {', '.join(ENDINGS)}")


def write_report(series: Series, triage: Triage, path: Path) -> None:
    """Write the report; raises OutputError, and then leaves nothing half-written."""
    text = _rendered(series, triage, path.suffix.lower())
    if not path.parent.is_dir():
        raise OutputError(f"{path}: there is no directory {path.parent}; make it first")
    try:
        handle, name = tempfile.mkstemp(prefix=".dunmist-", dir=path.parent)
        temporary = Path(name)
        try:
            with os.fdopen(handle, "w", encoding="utf-8") as stream:
                stream.write(text)
            temporary.replace(path)
        finally:
            temporary.unlink(missing_ok=True)
    except OSError as error:
        raise OutputError(f"{path}: {error.strerror}; choose another place with -o") from error


def _rendered(series: Series, triage: Triage, ending: str) -> str:
    if ending == ".json":
        return triage_json(triage)
    if ending == ".html":
        from dunmist.reports.figures import report_figures
        from dunmist.reports.html import document_html

        return document_html(triage_document(triage, report_figures(series, triage)))
    document = triage_document(triage)
    return document_markdown(document) if ending == ".md" else document_text(document)
