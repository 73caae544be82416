"""Decide which applications must not be touched, and why.

Ending any of these logs the person out, takes away the screen or the network, or stops the
computer. So no step that pauses or ends them is proposed or carried out.
"""

from fnmatch import fnmatchcase

from dunmist.advice.wording import ladder
from dunmist.applications import is_shell
from dunmist.series import Application, Process, Series

INIT_PID = 1


class Protections:
    """Knows what must not be touched in one capture, and why."""

    def __init__(self, series: Series) -> None:
        self._observers = _observer_chain(series)
        self._logins = _session_chain(series)

    def of(self, application: Application) -> str | None:
        """Return the key of the reason why an application must not be touched, None if it may."""
        for process in application.members:
            key = self._of_process(process)
            if key:
                return key
        return None

    def _of_process(self, process: Process) -> str | None:
        if process.facts.kernel:
            return "kernel"
        if process.pid == INIT_PID:
            return "init"
        if process in self._observers:
            return "observer"
        if process in self._logins:
            return "session"
        # by the name the kernel has for it, and by its file: either may have been changed
        return protected_by_name(process.facts.name, process.name)


def protected_by_name(*names: str) -> str | None:
    """Return the key of the reason why a program of one of these names must not be touched."""
    for key, protected in ladder()["protected"].items():
        if not frozenset(protected).isdisjoint(names):
            return str(key)
    return None


def protected_unit(name: str) -> str | None:
    """Return the key of the reason why a unit must not be touched, None if it may be."""
    for key, patterns in ladder()["protected_units"].items():
        if any(fnmatchcase(name, pattern) for pattern in patterns):
            return str(key)
    return None


def _with_ancestors(processes: list[Process]) -> set[Process]:
    return {*processes, *(parent for process in processes for parent in process.ancestors)}


def _observer_chain(series: Series) -> set[Process]:
    """Return the sampler and everything that it runs under."""
    return _with_ancestors([series.sampler] if series.sampler else [])


def _session_chain(series: Series) -> set[Process]:
    """Return the leaders of logins, what they run under, and their shells."""
    survey, living = series.surveyed.last, series.living
    sessions = survey.sessions if survey else []
    chain = _with_ancestors([living[session.pid] for session in sessions if session.pid in living])
    shells = {
        process
        for process in living.values()
        if process.parent in chain and is_shell(process.facts)
    }
    return chain | shells
