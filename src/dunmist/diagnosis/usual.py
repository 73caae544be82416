"""Compare a culprit with its usual figures at this hour, from the history."""

from collections.abc import Sequence
from dataclasses import replace

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import Culprit, EvidenceFigure, figure

# chance, after the correction for several culprits (Benjamini and Hochberg 1995)
CHANCE_MOST = 0.05


def with_usual(exam: Examination, culprits: Sequence[Culprit]) -> list[Culprit]:
    """Return the culprits with what is usual for each, where a history tells."""
    past = exam.past
    if past is None:
        return list(culprits)
    from scipy.stats import false_discovery_control

    now = [float(culprit.application.cores.mean()) for culprit in culprits]
    usual = [
        past.usual_cores(culprit.application.name, cores)
        for culprit, cores in zip(culprits, now, strict=True)
    ]
    known = [index for index, each in enumerate(usual) if each is not None]
    if not known:
        return list(culprits)
    chances = false_discovery_control([each.chance for each in usual if each is not None])
    evidence: dict[int, EvidenceFigure] = {}
    for index, chance in zip(known, chances, strict=True):
        each, cores = usual[index], now[index]
        if each is None:
            continue
        is_more = chance <= CHANCE_MOST and cores - each.usual >= exam.limits.findings.new_cores
        evidence[index] = figure(
            "usual-exceeded" if is_more else "usual-kept",
            cores,
            of=exam.processors,
            usual=each.usual,
            high=each.high,
            hours=float(each.hours),
        )
    return [
        replace(culprit, evidence=[*culprit.evidence, evidence[index]])
        if index in evidence
        else culprit
        for index, culprit in enumerate(culprits)
    ]
