"""Find what started an application: boot, a login, the service manager, a timer, a person."""

from typing import Literal, NamedTuple

from dunmist.applications import in_user_manager
from dunmist.computer import StartEntry
from dunmist.diagnosis import Thresholds
from dunmist.series import Application, Process, Series, cost_of_entry

By = Literal[
    "kernel", "boot", "service", "timer", "job", "login", "person", "remote", "program", "unknown"
]
JOB_RUNNERS = frozenset(("cron", "crond", "anacron", "atd"))
REMOTE_LOGINS = frozenset(("sshd", "sshd-session"))


class Origin(NamedTuple):
    """``name`` is the timer, the unit, the autostart file or the parent, where there is one."""

    by: By
    name: str | None = None
    entry: StartEntry | None = None


def find_origin(series: Series, application: Application, limits: Thresholds) -> Origin:
    """Return the origin of an application, as far as the capture shows it."""
    process = application.main
    if process is None:
        return Origin("unknown")
    if process.facts.kernel:
        return Origin("kernel")
    unit = process.unit or ""
    if unit.endswith(".service") and not in_user_manager(process.facts.cgroup):
        return _of_service(series, unit, process.facts.start_clk, limits)
    entry = _autostart_entry(series, process)
    if entry or "@autostart" in unit:
        return Origin("login", entry.file if entry else unit, entry)
    if unit.endswith(".service") and unit_is_own(unit):
        return Origin("service", unit)
    return _of_ancestors(process)


def unit_is_own(unit: str) -> bool:
    """Whether a user's unit is a service of its own rather than the manager itself."""
    return not unit.startswith("user@")


def _of_service(series: Series, unit: str, start_clk: int, limits: Thresholds) -> Origin:
    surveyed = series.surveyed
    timers = [
        timer
        for timer in surveyed.units
        if timer.triggers == unit and timer.active in (None, "active")
    ]
    early = start_clk / series.header.machine.clock_ticks_per_s <= limits.signs.boot_s
    # soon after boot, a timer differs from boot itself by what else would start the service
    if timers and not (early and surveyed.starts_at_boot(unit)):
        return Origin("timer", timers[0].name)
    return Origin("boot" if early else "service", unit)


def _autostart_entry(series: Series, process: Process) -> StartEntry | None:
    return next(
        (
            entry
            for entry in series.surveyed.autostart
            if entry.enabled and process in cost_of_entry(series, entry).processes
        ),
        None,
    )


def _of_ancestors(process: Process) -> Origin:
    for parent in process.ancestors:
        name = parent.facts.name
        if name in JOB_RUNNERS:
            return Origin("job", name)
        if name in REMOTE_LOGINS:
            return Origin("remote", name)
    parent_name = None if process.parent is None else process.parent.name
    unit = process.unit or ""
    if process.facts.tty > 0 or (unit.startswith("app-") and unit.endswith(".scope")):
        return Origin("person", parent_name)
    # an orphan is given to init, which did not start it
    if parent_name is None or process.facts.ppid == 1:
        return Origin("unknown")
    return Origin("program", parent_name)
