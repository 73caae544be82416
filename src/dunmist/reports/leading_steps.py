"""Choose the steps next to the verdict: against the first culprit or the worst finding."""

import shlex

from dunmist.advice import FilledStep, Judged
from dunmist.diagnosis import Finding


def leading_steps(judged: Judged) -> tuple[list[FilledStep], str | None]:
    """Return the steps that the headline means, and the command that carries one out.

    The name of the step stands for ``{}`` in the command, which is None if only people act.
    """
    diagnosis, cases, worst = judged.diagnosis, judged.cases, judged.triage.verdict.worst
    if worst.source == "finding":
        leading = next(
            finding
            for finding in diagnosis.findings
            if (finding.kind, finding.severity) == (worst.what, worst.severity)
        )
        return cases.of_finding(leading), _fix_of(judged, leading)
    if diagnosis.culprits:
        case = cases.of_culprit(diagnosis.culprits[0])
        outside = diagnosis.external_cause
        # steps against the effect of the load come first, then those against the load
        before = cases.of_finding(outside) if outside else []
        return [*before, *(case.filled_steps if case else [])], _fix_of(judged, None)
    findings = [diagnosis.external_cause] if diagnosis.external_cause else diagnosis.findings
    ladders = ((cases.of_finding(finding), _fix_of(judged, finding)) for finding in findings)
    return next((ladder for ladder in ladders if ladder[0]), ([], None))


def _fix_of(judged: Judged, finding: Finding | None) -> str | None:
    """Return the command that carries out a step, which is ``{}`` in it."""
    # a brace in a path is none of ours
    path = shlex.quote(str(judged.triage.capture.path)).replace("{", "{{").replace("}", "}}")
    if finding is None:
        return f"dunmist fix do {path} {{}}"
    return f"dunmist fix do {path} {{}} --finding {finding.kind}" if finding.application else None
