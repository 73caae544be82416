"""Chooses what is asked about or acted on: an application with its case, a rung, a process."""

from difflib import get_close_matches
from typing import NamedTuple

from dunmist.advice import Case, FilledStep, Judged
from dunmist.errors import UnknownName, WrongUsage
from dunmist.jobs.numbers import plain_number
from dunmist.series import Application, Process

# what people write for a ranked application
CULPRIT = "culprit:"


class Chosen(NamedTuple):
    """An application of a capture with its case."""

    judged: Judged
    application: Application
    case: Case

    @property
    def name(self) -> str:
        """What to call it."""
        return self.application.distinct_name

    @property
    def rungs(self) -> list[FilledStep]:
        """Its ladder, safest first."""
        return self.case.rungs


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
    return Chosen(judged, finding.application, case._replace(rungs=steps))


def choose_owner_of(judged: Judged, pid: int) -> Chosen:
    """Return the application that has a living process; raises WrongUsage when none has it."""
    file, process = judged.series.path, judged.series.living.get(pid)
    if process is None:
        raise WrongUsage(
            f"{file}: process {pid} was not there at its end; see 'dunmist view processes {file} "
            f"--each'"
        )
    return _chosen(judged, process.application)


def _chosen(judged: Judged, application: Application) -> Chosen:
    case = judged.cases.of(application)
    if case is None:
        raise WrongUsage(f"{judged.series.path}: nothing of {application.name} was seen")
    return Chosen(judged, application, case)


def rung_of(chosen: Chosen, step: str) -> FilledStep:
    """Return one step by its name or number; raises WrongUsage or UnknownName."""
    number = plain_number(step)
    if number is None:
        names = [rung.step.action for rung in chosen.rungs]
        if step not in names:
            near = get_close_matches(step, names, n=1)
            hint = f"did you mean '{near[0]}'?" if near else f"it has {', '.join(names)}"
            raise UnknownName(f"unknown step '{step}' for {chosen.name}; {hint}")
        return chosen.rungs[names.index(step)]
    if not 1 <= number <= len(chosen.rungs):
        raise WrongUsage(
            f"the ladder of {chosen.name} has {len(chosen.rungs)} steps, not {number}; leave the "
            f"step out to see them"
        )
    return chosen.rungs[number - 1]


def find_application(judged: Judged, what: str) -> Application | None:
    """Return the application of a name or ``culprit:N``, None for a number of a process.

    Raises UnknownName when there is none, and WrongUsage for a culprit that is not ranked.
    """
    if plain_number(what) is not None:
        return None
    number = plain_number(what.removeprefix(CULPRIT)) if what.startswith(CULPRIT) else None
    if number is not None:
        return choose_culprit(judged, number).application
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
