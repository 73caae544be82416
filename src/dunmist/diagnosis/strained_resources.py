"""List the strained resources for the rules, and make a finding about an application."""

from dunmist.diagnosis.records import EvidenceFigure, Finding, ResourceState
from dunmist.diagnosis.words import Kind, ResourceWord, Severity, is_strained
from dunmist.series import Application


class StrainedResources:
    """The states of the resources, as rules of findings ask for them."""

    def __init__(self, states: list[ResourceState]) -> None:
        self.states = states

    def has(self, *resources: ResourceWord) -> bool:
        """Whether any of these resources holds up work."""
        return any(self.of(resource) for resource in resources)

    def of(self, resource: ResourceWord) -> list[ResourceState]:
        """Return the strained things of a resource."""
        return [
            state
            for state in self.states
            if state.resource == resource and is_strained(state.level)
        ]


def application_finding(
    kind: Kind, severity: Severity, application: Application, evidence: list[EvidenceFigure]
) -> Finding:
    """Return a finding about an application."""
    return Finding(kind, severity, application.distinct_name, evidence, application)
