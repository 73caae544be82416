"""Writes the triage report: HTML, Markdown, text, JSON.

Takes a triage and its series. All forms but JSON are made from one document model, so that they say
the same; JSON is the contract's own form. No new facts are computed here.
"""

from dunmist.reports.document import triage_document
from dunmist.reports.text import document_text
from dunmist.reports.triage_json import triage_json
from dunmist.reports.writing import check_ending, write_report

__all__ = [
    "check_ending",
    "document_text",
    "triage_document",
    "triage_json",
    "write_report",
]
