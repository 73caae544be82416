"""The whole report as a document: what the triage gives, and what the tables give."""

from dunmist.advice import Triage
from dunmist.diagnosis import Diagnosis
from dunmist.reports import facts, sections
from dunmist.reports.document import Document
from dunmist.reports.figures import report_figures
from dunmist.series import Series


def report_document(series: Series, diagnosis: Diagnosis, triage: Triage) -> Document:
    """Return the report with its pictures and tables, in the order in which it is read."""
    pictures = report_figures(series, diagnosis)
    return sections.document_of(
        triage,
        [
            sections.verdict(triage),
            facts.machine_section(series),
            sections.what_to_do(triage),
            sections.why(triage, pictures["why"]),
            sections.ranking(triage),
            facts.culprit_section(series, diagnosis),
            sections.findings(triage),
            facts.core_section(series, diagnosis, pictures["cores"]),
            facts.memory_section(series, diagnosis, pictures["memory"]),
            facts.heat_section(series, diagnosis, pictures["heat"]),
            facts.port_section(series, diagnosis),
            sections.unseen(triage),
            sections.sampling(triage, facts.cost_text(series)),
            facts.appendix(series, diagnosis),
        ],
    )
