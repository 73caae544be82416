"""Five lines for a phone call or the title of a ticket."""

from dunmist.advice import Judged, first_action, percent, span_text


def brief_text(judged: Judged) -> str:
    """Return exactly five lines: verdict, culprit or finding, first step, how sure, not seen."""
    triage, diagnosis = judged.triage, judged.diagnosis
    verdict, capture = triage.verdict, triage.capture
    host = capture.host or "unnamed computer"
    if triage.culprits:
        first = triage.culprits[0]
        culprit = f"{first.role}: {first.name}, {percent(first.score)} of the strain"
    else:
        word = "cause" if diagnosis.outside else "found"
        culprit = f"{word}: {triage.findings[0].text if triage.findings else 'nothing wrong'}"
    steps = [step.text for one in triage.findings for step in one.steps]
    action = first_action(diagnosis, judged.cases) or next(iter(steps), "nothing")
    unseen = ", ".join(one.what for one in triage.blind_spots[:3]) or "nothing of note"
    more = len(triage.blind_spots) - 3
    complaint = judged.series.header.note
    note = f" ({complaint})" if complaint else ""
    lines = [
        f"{host}{note}: {verdict.level}, {verdict.limiting or 'nothing'} limits",
        culprit,
        f"do first: {action}",
        f"sure: {percent(verdict.confidence)}, from {capture.ticks} ticks over "
        f"{span_text(capture.duration_s)} at {capture.started}",
        f"not seen: {unseen}{f' and {more} more' if more > 0 else ''}",
    ]
    return "\n".join(" ".join(line.split()) for line in lines) + "\n"
