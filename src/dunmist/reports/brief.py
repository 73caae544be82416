"""Five lines for a phone call or the title of a ticket."""

from dunmist.advice import Triage, first_action, percent, span_text
from dunmist.diagnosis import Diagnosis
from dunmist.series import Series


def brief_text(series: Series, diagnosis: Diagnosis, triage: Triage) -> str:
    """Return exactly five lines: verdict, culprit, what to do, how sure, what was not seen."""
    verdict, capture = triage.verdict, triage.capture
    host = capture.host or "unnamed computer"
    if triage.culprits:
        first = triage.culprits[0]
        culprit = f"{first.role}: {first.name}, {percent(first.score)} of the strain"
    else:
        kinds = [one.text for one in triage.findings if one.severity != "note"]
        culprit = f"cause: {kinds[0] if kinds else 'no program to blame'}"
    unseen = ", ".join(one.what for one in triage.blind_spots[:3]) or "nothing of note"
    more = len(triage.blind_spots) - 3
    note = f" ({series.header.note})" if series.header.note else ""
    lines = [
        f"{host}{note}: {verdict.level}, {verdict.limiting or 'nothing'} limits",
        culprit,
        f"do first: {first_action(series, diagnosis) or 'look at the findings, if any'}",
        f"sure: {percent(verdict.confidence)}, from {capture.ticks} ticks over "
        f"{span_text(capture.duration_s)} at {capture.started}",
        f"not seen: {unseen}{f' and {more} more' if more > 0 else ''}",
    ]
    return "\n".join(" ".join(line.split()) for line in lines) + "\n"
