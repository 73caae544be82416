"""Who or what started an application: boot, a login, the service manager, a timer, a person."""

from typing import Literal, NamedTuple

from dunmist.applications import in_user_manager, unit_of
from dunmist.computer import StartEntry
from dunmist.series import Series
from dunmist.series.naming import main_identity
from dunmist.series.started import Started

By = Literal[
    "kernel", "boot", "service", "timer", "job", "login", "person", "remote", "program",
    "unknown",
]  # fmt: skip
# a service or program that started within this time belongs to the start of the computer, or to the
# login, rather than to something later
BOOT_S, LOGIN_S = 180.0, 300.0
JOB_RUNNERS = frozenset(("cron", "crond", "anacron", "atd"))
REMOTE_LOGINS = frozenset(("sshd", "sshd-session"))


class Origin(NamedTuple):
    """``name`` is the timer, the unit, the autostart file or the parent, where there is one."""

    by: By
    name: str | None = None
    entry: StartEntry | None = None


def find_origin(series: Series, application: int) -> Origin:
    """Return who or what started an application, as far as the capture tells."""
    identity = main_identity(series, application)
    if identity is None:
        return Origin("unknown")
    facts = series.processes.grouping.facts(identity)
    if facts.kernel:
        return Origin("kernel")
    unit = unit_of(facts.cgroup) or ""
    if unit.endswith(".service") and not in_user_manager(facts.cgroup):
        return _of_service(series, unit, facts.start_clk)
    entry = _autostart_entry(series, facts.pid)
    if entry or "@autostart" in unit:
        return Origin("login", entry.file if entry else unit, entry)
    if unit.endswith(".service") and unit_is_own(unit):
        return Origin("service", unit)
    return _of_ancestors(series, identity)


def unit_is_own(unit: str) -> bool:
    """Whether a user's unit is a service of its own rather than the manager itself."""
    return not unit.startswith("user@")


def started_s(series: Series, start_clk: int) -> float | None:
    """Return the moment of a start in seconds since 1970, None when the boot time is unknown."""
    about = series.header.machine
    if about.boot_time_s is None:
        return None
    return about.boot_time_s + start_clk / about.clock_ticks_per_s


def _of_service(series: Series, unit: str, start_clk: int) -> Origin:
    survey = series.last_survey
    timers = [one for one in (survey.units if survey else []) if one.triggers == unit]
    at_boot = start_clk / series.header.machine.clock_ticks_per_s <= BOOT_S
    if timers and not at_boot:
        return Origin("timer", timers[0].name)
    return Origin("boot" if at_boot else "service", unit)


def _autostart_entry(series: Series, pid: int) -> StartEntry | None:
    about = series.header.machine
    if not series.surveys:
        return None
    started = Started(series.processes, about.clock_ticks_per_s, about.page_bytes)
    return next(
        (
            entry
            for entry in series.surveys[0].autostart
            if entry.enabled and pid in started.of_entry(entry).pids
        ),
        None,
    )


def _of_ancestors(series: Series, identity: int) -> Origin:
    grouping = series.processes.grouping
    for parent in parents_of(series, identity):
        name = grouping.facts(parent).name
        if name in JOB_RUNNERS:
            return Origin("job", name)
        if name in REMOTE_LOGINS:
            return Origin("remote", name)
    facts, parent_identity = grouping.facts(identity), grouping.parent(identity)
    parent_name = None if parent_identity is None else grouping.program(parent_identity).name
    unit = unit_of(facts.cgroup) or ""
    if facts.tty > 0 or (unit.startswith("app-") and unit.endswith(".scope")):
        return Origin("person", parent_name)
    # an orphan is given to init, which did not start it
    if parent_name is None or facts.ppid == 1:
        return Origin("unknown")
    return Origin("program", parent_name)


def parents_of(series: Series, identity: int) -> list[int]:
    """Return the chain of parents that were seen, the nearest first."""
    chain: list[int] = []
    parent = series.processes.grouping.parent(identity)
    while parent is not None and parent not in chain:
        chain.append(parent)
        parent = series.processes.grouping.parent(parent)
    return chain
