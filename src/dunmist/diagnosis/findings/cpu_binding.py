"""Findings about programs that may only run on some CPUs, and wait there while others idle."""

from dunmist.diagnosis.cpu_binding import find_bindings, idle_cores
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.records import Finding, figure
from dunmist.diagnosis.strained_resources import application_finding


@finds("bound-to-cpus")
def _bound(exam: Examination) -> list[Finding]:
    idle = figure("cpus-idle", idle_cores(exam), of=exam.processors)
    findings = []
    for binding in exam.once(find_bindings):
        evidence = [
            figure("app-bound", float(binding.cpus), of=exam.processors),
            figure("app-bound-waiting", binding.waiting.mean()),
            idle,
        ]
        findings.append(
            application_finding("bound-to-cpus", "concern", binding.application, evidence)
        )
    return findings
