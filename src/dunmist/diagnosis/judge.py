"""The whole judgement, in order: resources, findings, the limiting one, culprits."""

from dunmist.diagnosis.confidence import evenness
from dunmist.diagnosis.coverage import find_coverage
from dunmist.diagnosis.disk import judge_disks
from dunmist.diagnosis.findings import find_findings
from dunmist.diagnosis.graphics import judge_graphics
from dunmist.diagnosis.heat import find_heat, judge_heat
from dunmist.diagnosis.known import Known
from dunmist.diagnosis.links import judge_links
from dunmist.diagnosis.memory import judge_memory, judge_swap
from dunmist.diagnosis.one_core import find_bound, judge_core
from dunmist.diagnosis.processor import judge_cpu
from dunmist.diagnosis.ranking import Strain, rank_culprits
from dunmist.diagnosis.records import Culprit, Diagnosis, Finding, ResourceState
from dunmist.diagnosis.storage import judge_storage
from dunmist.diagnosis.thresholds import Thresholds, thresholds
from dunmist.diagnosis.words import LEVELS, Kind, Resource, is_strained
from dunmist.series import Series

# causes before effects: heat lowers the clock and short memory pages, and both make the processors
# look full; resources of one rank are independent, and the one that holds up more work limits.
# Processors that are all busy hold up more work than a single one that is; a full file system only
# those who save
CAUSE_RANKS: tuple[tuple[Resource, ...], ...] = (
    ("heat",),
    ("memory",),
    ("cpu", "disk", "link", "gpu"),
    ("core",),
    ("storage",),
)
# findings that lie outside of all programs, and the resource whose strain they explain
OUTSIDE: dict[Kind, Resource] = {
    "stolen-time": "cpu",
    "low-clock": "cpu",
    "interrupt-storm": "cpu",
    "memory-limited": "memory",
    "disk-slow": "disk",
    "fan-stopped": "heat",
    "hot-while-idle": "heat",
    "storage-full": "storage",
    "inodes-full": "storage",
}


def diagnose(series: Series, limits: Thresholds | None = None) -> Diagnosis:
    """Return what limits the computer, who drives it and how sure that is."""
    limits = limits or thresholds()
    bound = find_bound(series, limits)
    disks = judge_disks(series, limits)
    heat = find_heat(series, limits)
    states = [
        judge_cpu(series, limits),
        judge_core(series, bound, limits),
        judge_memory(series, limits),
        *(state for state in (judge_swap(series, limits),) if state),
        *(one.state for one in disks),
        *(state for state in (judge_storage(series, limits),) if state),
        *judge_links(series, limits),
        *(state for state in (judge_heat(series, heat, limits),) if state),
        *judge_graphics(series, limits),
    ]
    coverage = find_coverage(series)
    findings = find_findings(series, Known(states, bound, disks, heat), limits)
    limiting = find_limiting(states)
    outside = find_outside(limiting, findings, limits)
    findings.sort(key=lambda one: one is not outside)
    culprits: list[Culprit] = []
    if limiting and outside is None:
        strain = Strain(limiting.resource, bound)
        named: Resource = limiting.resource if limiting.resource in coverage else "cpu"
        culprits = rank_culprits(series, strain, coverage[named], limits)
    trust = evenness(coverage["cpu"], len(series.machine.interval_s), limits)
    ranked = {resource for rank in CAUSE_RANKS for resource in rank} - {"storage"}
    highest = max((one.level for one in states if one.resource in ranked), key=LEVELS.index)
    return Diagnosis(
        level=limiting.level if limiting else highest,
        limiting=limiting.resource if limiting else None,
        confidence=culprits[0].confidence if culprits else min(trust, limits["confidence"]["most"]),
        resources=states,
        culprits=culprits,
        findings=findings,
        outside=outside,
        intervals=len(series.machine.interval_s),
        coverage=coverage,
    )


def find_limiting(states: list[ResourceState]) -> ResourceState | None:
    """Return the strained resource that is the furthest cause, None when nothing limits."""
    strained = [state for state in states if is_strained(state.level)]
    for rank in CAUSE_RANKS:
        same = [state for state in strained if state.resource in rank]
        if same:
            return max(same, key=lambda one: (LEVELS.index(one.level), one.pressure or one.used))
    return None


def find_outside(
    limiting: ResourceState | None, findings: list[Finding], limits: Thresholds
) -> Finding | None:
    """Return the finding that explains the strain by something that is no program, if any."""
    if limiting is None:
        return None
    for finding in findings:
        if OUTSIDE.get(finding.kind) != limiting.resource:
            continue
        weak = finding.kind == "stolen-time" and (
            finding.signs[0].value < limits["culprit"]["outside_share"]
        )
        if not weak:
            return finding
    return None
