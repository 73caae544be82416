"""Chooses what is asked about or acted on: an application with its case, a step, a process."""

from difflib import get_close_matches
from typing import NamedTuple

from dunmist.advice import Case, FilledStep, Judged
from dunmist.errors import UnknownName, WrongUsage
from dunmist.jobs.numbers import plain_number
from dunmist.series import Application, Process

# spellings of a ranked application, and of one by process number
CULPRIT, APPLICATION = "culprit:", "application:"


class Chosen(NamedTuple):
    """Target of steps: an application, or something without a process."""

    judged: Judged
    name: str
    filled_steps: list[FilledStep]  # its ladder, safest first
    case: Case | None = None  # of an application

    @property
    def application(self) -> Application | None:
        """The main process, None if no process was seen."""
        return self.case.application if self.case else None

    @property
    def suspect(self) -> Case:
        """The case of the application; raises WrongUsage where there is none."""
        if self.case is None:
            raise WrongUsage(f"{self.name}: nothing of it runs, so there is nothing to prove")
        return self.case


def choose_culprit(judged: Judged, rank: int) -> Chosen:
    """Return a culprit by its rank; raises WrongUsage when there are not so many."""
    file, culprits = judged.series.path, judged.diagnosis.culprits
    if not 1 <= rank <= len(culprits):
        count = len(culprits)
        raise WrongUsage(
            f"{file}: has {count} culprit{'s' if count != 1 else ''}, not {rank}; "
            f"see 'dunmist triage {file}', or give --pid or --finding"
        )
    return _chosen(judged, culprits[rank - 1].application)


def choose_finding(judged: Judged, kind: str) -> Chosen:
    """Return the application of the first finding of a kind, with the steps against that.

    Raises UnknownName when there is no such finding, WrongUsage when it is of no application.
    """
    file, findings = judged.series.path, judged.diagnosis.findings
    finding = next((finding for finding in findings if finding.kind == kind), None)
    if finding is None:
        kinds = ", ".join(dict.fromkeys(finding.kind for finding in findings)) or "none"
        raise UnknownName(f"{file}: has no finding '{kind}'; it has {kinds}")
    case = judged.cases.of(finding.application) if finding.application else None
    if finding.application is None or case is None:
        raise WrongUsage(
            f"{file}: {kind} is of no program, so its steps are for a person; see 'dunmist triage "
            f"{file} --full'"
        )
    steps = judged.cases.of_finding(finding)
    return Chosen(judged, finding.application.distinct_name, steps, case)


def choose_owner_of(judged: Judged, pid: int) -> Chosen:
    """Return the application that has a living process; raises WrongUsage when none has it."""
    file, process = judged.series.path, judged.series.living.get(pid)
    if process is None:
        raise WrongUsage(
            f"{file}: process {pid} was not there at its end; see 'dunmist view processes {file} "
            f"--each'"
        )
    return _chosen(judged, process.application)


def choose_named(judged: Judged, name: str) -> Chosen:
    """Return a service, a timer or a start entry by its name; raises UnknownName.

    Where a process of it was seen, that is the application.
    """
    surveyed = judged.series.surveyed
    units = (surveyed.unit(f"{name}{ending}") for ending in ("", ".service", ".timer"))
    unit = next((unit for unit in units if unit is not None), None)
    if unit is not None:
        running = [item for item in judged.series.applications if item.unit == unit.name]
        if running and judged.cases.of(running[0]) is not None:
            return _chosen(judged, running[0])
        return Chosen(judged, unit.name, judged.cases.of_unit(unit))
    entry = next(
        (
            entry
            for entry in surveyed.autostart
            if entry.kind == "desktop" and name in (entry.name, entry.file)
        ),
        None,
    )
    if entry is None:
        raise UnknownName(
            f"{judged.series.path}: has no service, timer or login entry '{name}'; see 'dunmist "
            "view services' and 'dunmist view autostart'"
        )
    return Chosen(judged, entry.name, judged.cases.of_entry(entry))


def _chosen(judged: Judged, application: Application) -> Chosen:
    case = judged.cases.of(application)
    if case is None:
        raise WrongUsage(f"{judged.series.path}: nothing of {application.name} was seen")
    return Chosen(judged, application.distinct_name, case.filled_steps, case)


def step_of(chosen: Chosen, step: str) -> FilledStep:
    """Return one step by its name or number; raises WrongUsage or UnknownName."""
    number = plain_number(step)
    if number is None:
        names = [filled.step.action for filled in chosen.filled_steps]
        if step not in names:
            near = get_close_matches(step, names, n=1)
            hint = f"did you mean '{near[0]}'?" if near else f"it has {', '.join(names)}"
            raise UnknownName(f"unknown step '{step}' for {chosen.name}; {hint}")
        return chosen.filled_steps[names.index(step)]
    if not 1 <= number <= len(chosen.filled_steps):
        raise WrongUsage(
            f"the ladder of {chosen.name} has {len(chosen.filled_steps)} steps, not {number}; "
            f"leave the step out to see them"
        )
    return chosen.filled_steps[number - 1]


def find_application(judged: Judged, what: str) -> Application | None:
    """Return the application of a name, ``culprit:N`` or ``application:PID``; None for a number.

    Raises UnknownName when there is none, and WrongUsage for a culprit that is not ranked.
    """
    if plain_number(what) is not None:
        return None
    number = plain_number(what.removeprefix(CULPRIT)) if what.startswith(CULPRIT) else None
    if number is not None:
        return choose_culprit(judged, number).application
    if what.startswith(APPLICATION):
        return find_process(judged, what.removeprefix(APPLICATION)).application
    applications = judged.series.applications
    named = [application for application in applications if application.name == what]
    if named:
        return max(named, key=lambda application: application.cores.mean())
    return find_process(judged, what).application


def find_process(judged: Judged, what: str) -> Process:
    """Return the process meant by a number or a name; raises UnknownName when there is none.

    Of several that had one number the one that lives is meant, else the last; of several of one
    name the one that did most.
    """
    series = judged.series
    pid = plain_number(what)
    if pid is not None:
        same = [process for process in series.processes.values() if process.pid == pid]
        if not same:
            raise UnknownName(
                f"process {pid} is not in this capture; see 'dunmist view processes --each'"
            )
        return series.living.get(pid, same[-1])
    living = series.living.values()
    named = [process for process in living if process.name == what] or [
        process for process in living if what.lower() in process.name.lower()
    ]
    if not named:
        near = get_close_matches(what, {process.name for process in living}, n=1)
        hint = f"; did you mean '{near[0]}'?" if near else ""
        raise UnknownName(f"no process is called '{what}' in this capture{hint}")
    return max(named, key=lambda match: match.cpu_s)
