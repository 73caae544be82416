"""Choose the resource that a report draws: the limiting one, or the fullest that was followed."""

from dunmist.diagnosis import Diagnosis, ResourceState


def shown_state(diagnosis: Diagnosis) -> ResourceState:
    """Return the state of the limiting resource, or of the fullest one that was traced."""
    traced = [resource for resource in diagnosis.resources if resource.trace is not None]
    limiting = [state for state in traced if state.resource == diagnosis.limiting]
    return max(
        limiting or traced, key=lambda candidate: (candidate.pressure or 0.0, candidate.used)
    )


def shown_name(state: ResourceState) -> str:
    """Return a resource and which one of them it is."""
    return " ".join(filter(None, (state.resource, state.name)))


def pressure_name(state: ResourceState) -> str:
    """Return the name of a resource's pressure: heat cuts the clock, others make tasks wait."""
    return "clock lost" if state.resource == "heat" else "tasks waited"
