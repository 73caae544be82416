"""The short forms of a report: five lines for the phone, and plain words for the owner."""

from dunmist.advice import Judged, describe_for_owner, first_action, percent, span_text
from dunmist.harmless import cut_middle
from dunmist.reports.document import Document, Items, Paragraph, Section, made_harmless
from dunmist.timestamps import started_text

# length of a title in ticket systems
TITLE_MOST = 120


def brief_text(judged: Judged) -> str:
    """Return exactly five lines: verdict, culprit or finding, first step, how sure, not seen."""
    triage, diagnosis = judged.triage, judged.diagnosis
    verdict, capture = triage.verdict, triage.capture
    host = capture.host or "unnamed computer"
    if triage.culprits:
        first = triage.culprits[0]
        culprit = f"{first.role}: {first.name}, {percent(first.score)} of the strain"
    else:
        word = "cause" if diagnosis.external_cause else "found"
        culprit = f"{word}: {triage.findings[0].text if triage.findings else 'nothing wrong'}"
    steps = [step.text for finding in triage.findings for step in finding.steps]
    action = first_action(diagnosis, judged.cases) or next(iter(steps), "nothing")
    unseen = (
        ", ".join(blind_spot.what for blind_spot in triage.blind_spots[:3]) or "nothing of note"
    )
    more = len(triage.blind_spots) - 3
    complaint = judged.series.header.note
    says = f": {verdict.level}, {verdict.limiting or 'nothing'} limits"
    note = f" ({complaint})" if complaint else ""
    lines = [
        # the title of a ticket
        cut_middle(f"{host}{note}", TITLE_MOST - len(says)) + says,
        culprit,
        f"do first: {action}",
        f"sure: {percent(verdict.confidence)}, from {capture.ticks} ticks over "
        f"{span_text(capture.duration_s)} at {started_text(capture.started)}",
        f"not seen: {unseen}{f' and {more} more' if more > 0 else ''}",
    ]
    return "\n".join(" ".join(line.split()) for line in lines) + "\n"


def owner_document(judged: Judged, done: list[str]) -> Document:
    """Return the letter to the owner: what happened, what was done, and what to watch."""
    answer = describe_for_owner(judged.diagnosis, judged.cases, done)
    first, *others = answer.found
    sections = [
        Section("What we found", [Paragraph(first, lead=True), *map(Paragraph, others)]),
        *_list("What happens next", answer.next),
        *_list("What was done", answer.done),
        *_list("What to watch", answer.watch),
    ]
    return made_harmless(Document("About your computer", judged.triage.verdict.level, sections))


def _list(heading: str, texts: list[str]) -> list[Section]:
    return [Section(heading, [Items([(text, "") for text in texts])])] if texts else []
