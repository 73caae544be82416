"""Which applications must not be touched, and why.

Ending any of these logs the person out, takes away the screen or the network, or stops the
computer; so no step that pauses or ends them is ever proposed or carried out.
"""

from dunmist.advice.origin import parents_of
from dunmist.advice.tables import ladder
from dunmist.applications import is_shell
from dunmist.series import Series


def protection_of(series: Series, application: int) -> str | None:
    """Return the key of the reason why an application must not be touched, None when it may be."""
    observers, logins = _observer_chain(series), _session_chain(series)
    grouping = series.processes.grouping
    for identity in grouping.applications[application].members:
        facts = grouping.facts(identity)
        if facts.kernel:
            return "kernel"
        if facts.pid == 1:
            return "init"
        if identity in observers:
            return "observer"
        if identity in logins:
            return "session"
        # by the name the kernel has for it, and by its file: either may have been changed
        key = protected_by_name(facts.name, grouping.program(identity).name)
        if key:
            return key
    return None


def protected_by_name(*names: str) -> str | None:
    """Return the key of the reason why a program of one of these names must not be touched."""
    for key, protected in ladder()["protected"].items():
        if not frozenset(protected).isdisjoint(names):
            return str(key)
    return None


def _observer_chain(series: Series) -> set[int]:
    """Return the sampler and everything that it runs under."""
    grouping = series.processes.grouping
    own = [
        identity
        for identity, number in grouping.application_of.items()
        if grouping.applications[number].observer
    ]
    return {*own, *(parent for one in own for parent in parents_of(series, one))}


def _session_chain(series: Series) -> set[int]:
    """Return the leaders of logins, what they run under, and their shells."""
    grouping, survey = series.processes.grouping, series.last_survey
    by_pid = {
        grouping.facts(one).pid: one
        for one in series.processes.last
        if one not in series.processes.ended_tick
    }
    leaders = [
        by_pid[session.pid]
        for session in (survey.sessions if survey else [])
        if session.pid in by_pid
    ]
    chain = {*leaders, *(parent for one in leaders for parent in parents_of(series, one))}
    shells = {
        identity
        for identity in by_pid.values()
        if grouping.parent(identity) in chain and is_shell(grouping.facts(identity))
    }
    return chain | shells
