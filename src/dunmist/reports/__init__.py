"""Writes the triage report: HTML, PDF, Markdown, text, JSON.

Takes what was judged. All forms but JSON are made from one document model,
so that they say the same; JSON is the contract's own form. No new facts are computed here.
"""

from dunmist.reports.audiences import brief_text as brief_text
from dunmist.reports.audiences import owner_document as owner_document
from dunmist.reports.comparison import before_after_section as before_after_section
from dunmist.reports.comparison import comparison_document as comparison_document
from dunmist.reports.comparison import comparison_json as comparison_json
from dunmist.reports.comparison import normal_section as normal_section
from dunmist.reports.document import Document as Document
from dunmist.reports.document import Section as Section
from dunmist.reports.glance import culprit_shares as culprit_shares
from dunmist.reports.glance import resource_figures as resource_figures
from dunmist.reports.glance import resource_name as resource_name
from dunmist.reports.glance import resource_shares as resource_shares
from dunmist.reports.leading_steps import leading_steps as leading_steps
from dunmist.reports.months import history_document as history_document
from dunmist.reports.months import history_json as history_json
from dunmist.reports.program_rows import ProgramRow as ProgramRow
from dunmist.reports.program_rows import busiest_rows as busiest_rows
from dunmist.reports.program_rows import culprit_rows as culprit_rows
from dunmist.reports.program_rows import heading_of as heading_of
from dunmist.reports.sections import done_section as done_section
from dunmist.reports.sections import triage_document as triage_document
from dunmist.reports.side_by_side import write_reports as write_reports
from dunmist.reports.styles import LEVEL_LOOKS as LEVEL_LOOKS
from dunmist.reports.styles import PLAIN as PLAIN
from dunmist.reports.styles import RISK_LOOKS as RISK_LOOKS
from dunmist.reports.styles import ROLE_LOOKS as ROLE_LOOKS
from dunmist.reports.styles import SEVERITY_LOOKS as SEVERITY_LOOKS
from dunmist.reports.styles import Look as Look
from dunmist.reports.text import document_text as document_text
from dunmist.reports.triage_json import triage_json as triage_json
from dunmist.reports.writing import check_ending as check_ending
from dunmist.reports.writing import write_report as write_report
