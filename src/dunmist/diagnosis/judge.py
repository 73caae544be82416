"""The whole judgement, in order: resources, findings, the limiting one, culprits."""

import numpy as np

from dunmist.diagnosis.confidence import data_quality
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings import find_findings
from dunmist.diagnosis.onset import with_onset
from dunmist.diagnosis.ranking import rank_culprits
from dunmist.diagnosis.records import (
    AlsoStrained,
    Culprit,
    Diagnosis,
    Finding,
    ResourceState,
    Trace,
)
from dunmist.diagnosis.resources import (
    RESOURCE_BY_WORD,
    RESOURCES,
    Resource,
    ResourceInstance,
    find_coverage,
)
from dunmist.diagnosis.usual import with_usual
from dunmist.diagnosis.words import LEVELS, Kind, LevelWord, ResourceWord, is_strained
from dunmist.history.past import Past
from dunmist.series import Ints, Rate, Series
from dunmist.thresholds import Thresholds, thresholds

# findings that lie outside of all programs, and the resource whose strain they explain
OUTSIDE: dict[Kind, ResourceWord] = {
    "stolen-time": "cpu",
    "low-clock": "cpu",
    "interrupt-storm": "cpu",
    "memory-limited": "memory",
    "memory-in-files": "memory",
    "memory-reserved": "memory",
    "memory-in-kernel": "memory",
    "drive-failing": "disk",
    "drive-resets": "disk",
    "drive-warns": "disk",
    "drive-too-hot": "disk",
    "disk-slow": "disk",
    "fan-stopped": "heat",
    "hot-while-idle": "heat",
    "storage-full": "storage",
    "inodes-full": "storage",
}

# these explain the strain only if they are urgent: if they hold more than any program
IF_URGENT: tuple[Kind, ...] = ("memory-in-files", "memory-reserved", "memory-in-kernel")
OF_ONE_DISK = ("drive-failing", "drive-resets", "drive-warns", "drive-too-hot")


def diagnose(
    series: Series, limits: Thresholds | None = None, past: Past | None = None
) -> Diagnosis:
    """Return the limiting resource, the culprits and the confidence."""
    exam = Examination(series, limits or thresholds(), past)
    states = [
        judge_instance(exam, resource, instance)
        for resource in RESOURCES
        for instance in resource.instances(exam)
    ]
    coverage = find_coverage(exam)
    findings = [with_onset(exam, finding) for finding in find_findings(exam, states)]
    limiting = find_limiting(states)
    external_cause = find_external_cause(limiting, findings, exam.limits)
    # the finding that explains the strain comes first; the sort keeps the order of the rest:
    # severity, then the order of the rules
    findings.sort(key=lambda finding: finding is not external_cause)
    culprits: list[Culprit] = []
    if limiting:
        culprits = rank_culprits(exam, RESOURCE_BY_WORD[limiting.resource])
    if external_cause:
        culprits = drivers_of(exam, external_cause, culprits)
    culprits = with_usual(exam, culprits)
    intervals = series.line.intervals
    quality = data_quality(coverage["cpu"], intervals, exam.limits, series.taken_share)
    return Diagnosis(
        level=limiting.level if limiting else _highest(states),
        limiting=limiting.resource if limiting else None,
        confidence=culprits[0].confidence
        if culprits
        else min(quality, exam.limits.confidence.most),
        resources=states,
        culprits=culprits,
        findings=findings,
        limits=exam.limits,
        external_cause=external_cause,
        also=_also(exam, states, limiting),
        intervals=intervals,
        taken_share=series.taken_share,
        coverage=coverage,
    )


def judge_instance(
    exam: Examination, resource: Resource, instance: ResourceInstance
) -> ResourceState:
    """Return the state of one instance of a resource: what lasted, and how it went."""
    trace, used, pressure = None, instance.used_value, instance.pressure_value
    if isinstance(instance.used, Rate):
        trace = Trace(instance.used, instance.pressure, _levels(instance, instance.used))
        used = exam.typical(instance.used) if used is None else used
    else:
        used = instance.used
    if pressure is None and instance.pressure is not None:
        pressure = exam.typical(instance.pressure)
    return ResourceState(
        resource.word,
        instance.level or _lasting_level(exam, instance),
        used,
        pressure,
        instance.evidence,
        name=instance.name,
        errors=instance.errors,
        trace=trace,
    )


def _lasting_level(exam: Examination, instance: ResourceInstance) -> LevelWord:
    """Return the highest level whose condition held for long enough."""
    # a level without a condition cannot be reached
    for level in reversed(LEVELS):
        condition = instance.conditions.get(level)
        if condition is not None and exam.typical(condition) > 0:
            return level
    return "calm"


def _levels(instance: ResourceInstance, used: Rate) -> Ints:
    """Return the index of the highest level whose condition each interval meets."""
    levels: Ints = np.zeros(len(used.values), dtype=np.int64)
    for index, level in enumerate(LEVELS):
        if level in instance.conditions:
            levels[instance.conditions[level].values > 0] = index
    return levels


def _highest(states: list[ResourceState]) -> LevelWord:
    # room on a file system and swap in use say nothing of how busy a computer is
    load = (state.level for state in states if RESOURCE_BY_WORD[state.resource].is_load)
    return max(load, key=LEVELS.index)


def find_limiting(states: list[ResourceState]) -> ResourceState | None:
    """Return the strained resource that is the furthest cause, None when nothing limits.

    Causes come before effects: heat lowers the clock and short memory pages, and both make the
    processors look full. Resources of one rank are independent, and the one that holds up more work
    limits. Processors that are all busy hold up more work than a single one that is; a full file
    system only those who save.
    """

    def order(state: ResourceState) -> tuple[int, int, float]:
        rank = RESOURCE_BY_WORD[state.resource].cause_rank
        level = LEVELS.index(state.level)
        return (-(rank or 0), level, state.pressure or state.used)

    strained = [
        state
        for state in states
        if is_strained(state.level) and RESOURCE_BY_WORD[state.resource].cause_rank is not None
    ]
    return max(strained, key=order, default=None)


def _also(
    exam: Examination, states: list[ResourceState], limiting: ResourceState | None
) -> AlsoStrained | None:
    """Return the next resource that is strained, of another kind than the limiting one."""
    if limiting is None:
        return None
    state = find_limiting([state for state in states if state.resource != limiting.resource])
    if state is None:
        return None
    ranked = rank_culprits(exam, RESOURCE_BY_WORD[state.resource])
    return AlsoStrained(
        state, next((culprit for culprit in ranked if culprit.role == "cause"), None)
    )


def drivers_of(exam: Examination, cause: Finding, ranked: list[Culprit]) -> list[Culprit]:
    """Return those whose load brings a cause outside of all programs about; mostly nobody's does.

    A drive that is too hot is heated by its heaviest user, and would be slow without it as well.
    """
    if cause.kind != "drive-too-hot":
        return []
    disk = next((d for d in exam.series.devices.disks if d.name == cause.subject), None)
    if disk is None:
        return []
    least = exam.limits.drives.heating_share * exam.limits.of_disk(disk.kind).bytes_per_s
    return [
        culprit
        for culprit in ranked
        if culprit.role == "cause" and culprit.application.disk_bytes_per_s.mean() >= least
    ]


def find_external_cause(
    limiting: ResourceState | None, findings: list[Finding], limits: Thresholds
) -> Finding | None:
    """Return the finding that explains the strain by something that is no program, if any."""
    if limiting is None:
        return None
    for finding in findings:
        if OUTSIDE.get(finding.kind) != limiting.resource:
            continue
        # a disk that fails explains nothing of another
        if finding.kind in OF_ONE_DISK and finding.subject != limiting.name:
            continue
        if finding.kind in IF_URGENT and finding.severity != "urgent":
            continue
        # a little stolen time does not explain why the rest is full
        weak = finding.evidence[0].value < limits.culprit.outside_share
        if finding.kind != "stolen-time" or not weak:
            return finding
    return None
