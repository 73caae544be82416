"""The whole report as a document: what the triage gives, and what the tables give."""

from collections.abc import Sequence

from dunmist.advice import Judged
from dunmist.reports import facts, sections
from dunmist.reports.document import Document, Section
from dunmist.reports.figures import report_figures
from dunmist.reports.glance import glance


def verdict_section(judged: Judged, more: Sequence[Section] = ()) -> Section:
    """Return the headline, with what is seen at a glance below it."""
    section = sections.verdict(judged.triage, more)
    return Section(section.heading, [*section.blocks, glance(judged)])


def report_document(judged: Judged, more: Sequence[Section] = ()) -> Document:
    """Return the report with its pictures and tables, in the order in which it is read.

    ``more`` follows what to do.
    """
    pictures, triage = report_figures(judged), judged.triage
    return sections.document_of(
        triage,
        [
            verdict_section(judged, more),
            facts.machine_section(judged.series),
            sections.what_to_do(triage),
            *more,
            sections.why(triage, pictures["why"]),
            sections.ranking(triage),
            facts.culprit_section(judged),
            *facts.work_section(judged, pictures.get("doing")),
            sections.findings(triage),
            facts.core_section(judged, pictures["cores"]),
            facts.memory_section(judged, pictures["memory"]),
            facts.heat_section(judged, pictures["heat"]),
            facts.port_section(judged),
            sections.unseen(triage),
            sections.sampling(triage, facts.cost_text(judged.series)),
            facts.appendix(judged),
        ],
    )
