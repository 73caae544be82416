"""The report for the person whose computer it is."""

from dunmist.advice import Judged, tell_owner
from dunmist.reports.document import Document, Items, Paragraph, Section, made_harmless


def owner_document(judged: Judged, done: list[str]) -> Document:
    """Return what happened, what was done, and what to watch, in plain words."""
    told = tell_owner(judged.diagnosis, judged.cases, done)
    first, *others = told.found
    sections = [
        Section("What we found", [Paragraph(first, lead=True), *map(Paragraph, others)]),
        *_list("What happens next", told.next),
        *_list("What was done", told.done),
        *_list("What to watch", told.watch),
    ]
    return made_harmless(Document("About your computer", judged.triage.verdict.level, sections))


def _list(heading: str, texts: list[str]) -> list[Section]:
    return [Section(heading, [Items([(text, "") for text in texts])])] if texts else []
