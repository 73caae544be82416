"""Writes the triage report: HTML, PDF, Markdown, text, JSON.

Takes what was judged. All forms but JSON are made from one document model,
so that they say the same; JSON is the contract's own form. No new facts are computed here.
"""

from dunmist.reports.audiences import brief_text, owner_document
from dunmist.reports.comparison import beside_normal_section, comparison_document, comparison_json
from dunmist.reports.document import Document, Section
from dunmist.reports.glance import culprit_shares, resource_figures, resource_name, resource_shares
from dunmist.reports.leading_steps import leading_steps
from dunmist.reports.program_rows import ProgramRow, busiest_rows, culprit_rows, heading_of
from dunmist.reports.sections import done_section, triage_document
from dunmist.reports.side_by_side import write_reports
from dunmist.reports.styles import LEVEL_LOOKS, PLAIN, RISK_LOOKS, ROLE_LOOKS, SEVERITY_LOOKS, Look
from dunmist.reports.text import document_text
from dunmist.reports.triage_json import triage_json
from dunmist.reports.writing import check_ending, write_report

__all__ = [
    "LEVEL_LOOKS",
    "PLAIN",
    "RISK_LOOKS",
    "ROLE_LOOKS",
    "SEVERITY_LOOKS",
    "Document",
    "Look",
    "ProgramRow",
    "Section",
    "beside_normal_section",
    "brief_text",
    "busiest_rows",
    "check_ending",
    "comparison_document",
    "comparison_json",
    "culprit_rows",
    "culprit_shares",
    "document_text",
    "done_section",
    "heading_of",
    "leading_steps",
    "owner_document",
    "resource_figures",
    "resource_name",
    "resource_shares",
    "triage_document",
    "triage_json",
    "write_report",
    "write_reports",
]
