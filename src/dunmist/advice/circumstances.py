"""Find the circumstances of an application, as words that the ladder's steps require.

One word says what kind of thing it is: ``kernel``, ``protected``, ``symptom``, ``victim``,
``service`` (of the system), ``user-service`` or ``program``. The others, each where it applies:

``choked`` (the computer), ``running``, ``several`` processes, a ``unit`` of its own, a ``window``
of its own, ``terminal``, ``low-priority`` already, ``doubtful``, ``packaged``, ``leaks``, ``spins``
(a spinning disk is in use), ``starts-at-boot``, ``timer``, ``autostart``, ``job``,
``starts-itself``, ``stopped``, ``replaced`` (its file, since it started), ``script`` (known by
name), ``of-others`` (than who sits here), ``killable`` (all of it that waits uninterruptibly can be
ended by force), ``limits-`` with the resource that limits, and the guards of the catalogue:
``essential``, ``atomic``, ``wanted`` and ``unfinished`` (ending it means starting over).
``real-time`` is a program that no ordinary task can interrupt.
``cause-known`` is added where somebody or something is to blame for what it waits for, ``part`` and
``cancellable`` where one of its processes takes nearly all (advice/guilty_part.py), ``does-`` with
each kind of work that is a good part of what it does (advice/code.toml).
"""

from dunmist.advice.program_facts import About
from dunmist.applications import in_user_manager
from dunmist.computer import is_person
from dunmist.diagnosis import Diagnosis, Kind, Role, real_time_process
from dunmist.series import Process, Series, is_killable

# findings that make a program evidence, which nobody should end
DOUBTS: tuple[Kind, ...] = ("lookalike-name", "odd-location")


def circumstances(series: Series, about: About, diagnosis: Diagnosis, role: Role) -> frozenset[str]:
    """Return the words that hold for an application which has the given role."""
    process, application = about.process, about.process.application
    living = application.living
    kinds = {finding.kind for finding in diagnosis.findings if finding.application is application}
    unit = application.unit or ""
    kind = about.recognised.kind if about.recognised else None
    low = diagnosis.limits.signs.low_priority_share
    holds = {
        _kind_of_program(about, application.unit, process.facts.cgroup, role): True,
        "unit": application.unit is not None,
        f"limits-{diagnosis.limiting}": diagnosis.limiting is not None,
        "choked": diagnosis.level == "choked",
        "running": bool(living),
        "several": len(living) > 1,
        "window": unit.startswith("app-") and unit.endswith(".scope"),
        "terminal": process.facts.tty > 0,
        "bound": "bound-to-cpus" in kinds,
        "real-time": real_time_process(application, diagnosis.limits) is not None,
        "low-priority": application.low_priority >= low,
        # a file that an update replaced is no riddle
        "doubtful": not kinds.isdisjoint(DOUBTS) or about.file_state == "missing",
        "replaced": about.file_state == "replaced",
        "of-others": _is_of_others(series, about),
        "packaged": about.package is not None,
        "leaks": "memory-leak" in kinds or "descriptor-leak" in kinds,
        "spins": any(disk.spins for disk in series.header.inventory.disks),
        "starts-at-boot": series.surveyed.starts_at_boot(unit),
        "timer": about.origin.by == "timer",
        "autostart": about.origin.entry is not None,
        "starts-itself": about.origin.by in ("boot", "service", "login", "timer", "job"),
        "job": about.origin.by == "job",
        "killable": _is_killable(living),
        "script": process.program.script is not None,
        "stopped": any(process.state in ("T", "t") for process in living),
    }
    guards = kind.guards if kind else frozenset()
    return frozenset(word for word, is_so in holds.items() if is_so) | guards


def _is_killable(living: list[Process]) -> bool:
    waiting = [process.last for process in living if process.state == "D"]
    return bool(waiting) and all(last and is_killable(last.waits_in) for last in waiting)


def _is_of_others(series: Series, about: About) -> bool:
    """Whether it is a person's who does not sit at the screen at which somebody else does."""
    here = series.surveyed.people_at_screen
    return bool(here) and is_person(about.process.facts.uid) and about.owner not in here


def _kind_of_program(about: About, unit: str | None, cgroup: str | None, role: Role) -> str:
    if about.protection:
        return "kernel" if about.protection == "kernel" else "protected"
    if role in ("victim", "symptom"):
        return role
    if unit is None or not unit.endswith(".service"):
        return "program"
    return "user-service" if in_user_manager(cgroup) else "service"
