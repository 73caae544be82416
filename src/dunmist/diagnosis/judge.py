"""The whole judgement, in order: resources, the limiting one, coverage, culprits, findings."""

from dunmist.diagnosis.confidence import evenness
from dunmist.diagnosis.coverage import find_coverage
from dunmist.diagnosis.findings import Known, find_findings
from dunmist.diagnosis.memory import judge_memory
from dunmist.diagnosis.one_core import find_bound, judge_core
from dunmist.diagnosis.processor import judge_cpu
from dunmist.diagnosis.ranking import Strain, rank_culprits
from dunmist.diagnosis.records import Culprit, Diagnosis, ResourceState
from dunmist.diagnosis.thresholds import Thresholds, thresholds
from dunmist.diagnosis.words import LEVELS, Resource, is_strained
from dunmist.series import Series

# causes before effects: short memory makes the processors busy, and processors that are all busy
# hold up more work than a single one that is
CAUSE_ORDER: tuple[Resource, ...] = ("memory", "cpu", "core")


def diagnose(series: Series, limits: Thresholds | None = None) -> Diagnosis:
    """Return what limits the computer, who drives it and how sure that is."""
    limits = limits or thresholds()
    bound = find_bound(series, limits)
    states = [
        judge_cpu(series, limits),
        judge_core(series, bound, limits),
        judge_memory(series, limits),
    ]
    coverage = find_coverage(series)
    limiting = find_limiting(states)
    culprits: list[Culprit] = []
    if limiting:
        strain = Strain(limiting.resource, bound)
        covered = coverage["memory" if limiting.resource == "memory" else "cpu"]
        culprits = rank_culprits(series, strain, covered, limits)
    intervals = len(series.machine.interval_s)
    trust = evenness(coverage["cpu"], intervals, limits)
    highest = max((state.level for state in states), key=LEVELS.index)
    return Diagnosis(
        level=limiting.level if limiting else highest,
        limiting=limiting.resource if limiting else None,
        confidence=culprits[0].confidence if culprits else min(trust, limits["confidence"]["most"]),
        resources=states,
        culprits=culprits,
        findings=find_findings(series, states, Known(bound, culprits), limits),
        coverage=coverage,
    )


def find_limiting(states: list[ResourceState]) -> ResourceState | None:
    """Return the strained resource that is the furthest cause, None when nothing limits."""
    by_name = {state.resource: state for state in states if is_strained(state.level)}
    return next((by_name[name] for name in CAUSE_ORDER if name in by_name), None)
