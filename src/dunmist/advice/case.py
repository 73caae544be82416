"""One case for each application and finding: what it is, what is so about it, what to do.

A case is built once and handed on: the triage, the views, the report for the owner and ``fix`` all
read the same one.
"""

import re
from collections.abc import Iterable
from typing import NamedTuple

from dunmist.advice.circumstances import circumstances
from dunmist.advice.code_work import main_work, work_circumstances, work_filling
from dunmist.advice.doing import doing_of
from dunmist.advice.guilty_part import (
    GuiltyPart,
    find_guilty_part,
    part_circumstances,
    part_filling,
)
from dunmist.advice.ladder_steps import Acting, FilledStep, filled_steps_of
from dunmist.advice.moved_files import file_filling
from dunmist.advice.parts import part_words
from dunmist.advice.program_facts import About, about_process
from dunmist.advice.protection import Protections, protected_unit
from dunmist.advice.recent_changes import Recent, change_filling, recent_changes
from dunmist.advice.template_values import (
    application_filling,
    deleted_filling,
    entry_filling,
    finding_filling,
    name_filling,
    sensor_modules,
    subject_of,
    timer_of,
)
from dunmist.advice.triage import Doing
from dunmist.advice.wording import ladder
from dunmist.computer import StartEntry, Unit
from dunmist.diagnosis import (
    CLIENT_EVIDENCE,
    Culprit,
    Diagnosis,
    EvidenceFigure,
    Finding,
    Role,
    savings_of,
)
from dunmist.series import Application, Process, Series, Surveyed

ROOT = "/"
# units that have a control group, and units that can be stopped (systemd.unit(5))
UNITS = (".service", ".timer", ".scope", ".slice")
STOPPABLE = (".service", ".timer")
# states in which there is something to stop (systemd(1))
AT_WORK = ("active", "activating", "reloading")
MOUNT = ".mount"
UNIT = re.compile(r"(?!-)[A-Za-z0-9:_.\\@-]{1,244}\Z")


class Case(NamedTuple):
    """Facts of an application in one role, and its ladder, safest first."""

    application: Application
    role: Role
    about: About
    filled_steps: list[FilledStep]
    doing: list[Doing]
    recent: list[Recent]  # recent changes that concern it


class Cases:
    """All cases of one capture."""

    def __init__(self, series: Series, diagnosis: Diagnosis) -> None:
        self._series, self._diagnosis = series, diagnosis
        self._protections = Protections(series)
        self._cases: dict[tuple[int, Role], Case | None] = {}
        self._findings: dict[int, list[FilledStep]] = {}
        self._abouts: dict[int, About] = {}
        self._parts: dict[int, GuiltyPart | None] = {}

    def about(self, process: Process) -> About:
        """Return the facts of a process and its application."""
        if process.identity not in self._abouts:
            self._abouts[process.identity] = about_process(
                self._series, process, self._protections, self._diagnosis.limits
            )
        return self._abouts[process.identity]

    def of(self, application: Application, role: Role | None = None) -> Case | None:
        """Return the case of an application; None when nothing of it was seen.

        Without a role it has that of the ranking, else it is looked at as a cause.
        """
        taken: Role = role or self._ranked_role(application) or "cause"
        key = (application.number, taken)
        if key not in self._cases:
            self._cases[key] = self._made(application, taken)
        return self._cases[key]

    def of_culprit(self, culprit: Culprit) -> Case | None:
        """Return the case of a ranked application."""
        return self.of(culprit.application, culprit.role)

    def of_finding(self, finding: Finding) -> list[FilledStep]:
        """Return the steps against a finding, safest first."""
        if id(finding) not in self._findings:
            self._findings[id(finding)] = self._filled_steps_against(finding)
        return self._findings[id(finding)]

    def of_unit(self, unit: Unit) -> list[FilledStep]:
        """Return the steps for a service or timer that no process was seen of, safest first."""
        filling = name_filling(unit.name) | part_filling(None)
        holding = _circumstances_of_subject(unit.name, self._series.surveyed)
        holding -= set() if unit.active in AT_WORK else {"running"}
        holding |= {"timer"} if unit.name.endswith(".timer") else set()
        # a unit that the system depends on is only inspected
        holding |= {"essential", "atomic"} if "protected" in holding else set()
        return filled_steps_of(ladder()["unit"], holding, filling, Acting(unit=unit.name))

    def of_entry(self, entry: StartEntry) -> list[FilledStep]:
        """Return the steps for what starts at login and was not seen to run."""
        user = entry.user or self._logged_in()
        filling = name_filling(entry.name) | entry_filling(entry)
        holding = frozenset(("program", "autostart"))
        # without a person nobody's own directory can overrule an entry of the system
        acting = Acting(entry=entry, user=user)
        steps = filled_steps_of(ladder()["entry"], holding, filling, acting)
        return steps if user else [step._replace(act=None) for step in steps]

    def _logged_in(self) -> str | None:
        """Return the only person that is logged in, None without one or with several."""
        survey = self._series.surveyed.last
        people = {session.user for session in survey.sessions} if survey else set()
        return people.pop() if len(people) == 1 else None

    def doing_in(self, finding: Finding) -> list[Doing]:
        """Return the work of the program of a finding; empty if it concerns none."""
        if finding.application is None:
            return []
        case = self.of(finding.application, self._role_in(finding))
        return case.doing if case else []

    def _made(self, application: Application, role: Role) -> Case | None:
        main = application.main
        if main is None:
            return None
        about = self.about(main)
        holding = circumstances(self._series, about, self._diagnosis, role)
        filling = application_filling(self._series, about, self._diagnosis)
        freed = savings_of(application, self._diagnosis.limiting) if role == "cause" else None
        part = self._part(application)
        filling |= part_filling(part)
        acting = Acting(about=about, limits=self._diagnosis.limits, freed=freed, part=part)
        holding |= _known_cause(filling) | part_circumstances(part)
        ranked = (item for item in self._diagnosis.culprits if item.application is application)
        clients = _clients(figure for culprit in ranked for figure in culprit.evidence)
        filling["clients"] = clients
        holding |= {"serves"} if clients else set()
        limits = self._diagnosis.limits
        doing = doing_of(application, self._series, limits, part, about.origin)
        work = main_work(application, self._series.code.get(application.number), limits)
        holding |= work_circumstances(work)
        filling |= work_filling(work)
        recent = self._recent(application)
        changed = change_filling(recent)
        filling |= changed
        holding |= changed.keys()
        parts = part_words(doing)
        filling |= parts
        holding |= parts.keys()
        files = file_filling(self._series.files.get(application.number), limits)
        filling |= files
        holding |= files.keys()
        filled_steps = filled_steps_of(ladder()["culprit"], holding, filling, acting)
        return Case(application, role, about, filled_steps, doing, recent)

    def _filled_steps_against(self, finding: Finding) -> list[FilledStep]:
        outside = self._diagnosis.external_cause
        if outside and finding.kind in ladder()["outside"].get(outside.kind, ()):
            return []
        names = ladder()["finding"][finding.kind]
        filling = finding_filling(finding, self._diagnosis, self._series) | part_filling(None)
        main = finding.application.main if finding.application else None
        of_computer = {"sensor-driver-missing"} if sensor_modules(self._series) else set()
        of_computer |= {"crash-recorded"} if self._series.header.inventory.crashes else set()
        of_computer |= _known_cause(filling)
        if main is None:
            holding = _circumstances_of_subject(subject_of(finding), self._series.surveyed)
            deleted = deleted_filling(finding)
            filling |= deleted
            holding |= deleted.keys()
            unit = finding.subject if (finding.subject or "").endswith(STOPPABLE) else None
            return filled_steps_of(names, holding | of_computer, filling, Acting(unit=unit))
        about = self.about(main)
        cause = filling["cause"]  # of the finding itself, which may not be of what limits
        filling |= application_filling(self._series, about, self._diagnosis)
        filling["cause"] = cause
        holding = circumstances(self._series, about, self._diagnosis, self._role_in(finding))
        resource = ladder()["takes"].get(finding.kind)
        freed = savings_of(about.process.application, resource) if resource else None
        part = self._part(about.process.application)
        filling |= part_filling(part)
        filling["clients"] = _clients(finding.evidence)
        holding |= of_computer | part_circumstances(part)
        holding |= {"serves"} if filling["clients"] else set()
        acting = Acting(about=about, limits=self._diagnosis.limits, freed=freed, part=part)
        return filled_steps_of(names, holding, filling, acting)

    def _recent(self, application: Application) -> list[Recent]:
        onset = next(
            (
                culprit.onset
                for culprit in self._diagnosis.culprits
                if culprit.application is application
            ),
            None,
        )
        limits = self._diagnosis.limits
        return recent_changes(application, self._series, onset, limits)

    def _part(self, application: Application) -> GuiltyPart | None:
        if application.number not in self._parts:
            self._parts[application.number] = find_guilty_part(application, self._diagnosis)
        return self._parts[application.number]

    def _role_in(self, finding: Finding) -> Role:
        """Return a program's part in a finding: in the ranking, else what the finding makes it."""
        made: Role = ladder()["finding_role"].get(finding.kind, "cause")
        ranked = self._ranked_role(finding.application) if finding.application else None
        return ranked or made

    def _ranked_role(self, application: Application) -> Role | None:
        culprits = self._diagnosis.culprits
        return next(
            (culprit.role for culprit in culprits if culprit.application is application), None
        )


def _clients(evidence: Iterable[EvidenceFigure]) -> str:
    """Return for which programs of this computer an application works, none as nothing."""
    names = [
        name
        for figure in evidence
        if figure.key in CLIENT_EVIDENCE and isinstance(figure.slots["which"], list)
        for name in figure.slots["which"]
    ]
    return " and ".join(map(str, names[:2]))


def _known_cause(filling: dict[str, str]) -> set[str]:
    return {"cause-known"} if filling["cause"] else set()


def _circumstances_of_subject(subject: str, surveyed: Surveyed) -> frozenset[str]:
    """Return the facts of a subject that is no application."""
    holds = {
        "root-full": subject == ROOT,
        "service": subject.endswith(STOPPABLE),
        "running": subject.endswith(STOPPABLE),
        "unit": subject.endswith(UNITS),
        "mount": subject.endswith(MOUNT),
        "protected": protected_unit(subject) is not None,
        # its name becomes that of a file: a capture may call a unit anything
        "starts-at-boot": bool(UNIT.match(subject)) and surveyed.starts_at_boot(subject),
        "timed": surveyed.unit(timer_of(subject)) is not None,
        "keeps-time": bool(surveyed.time_keeper),
    }
    return frozenset(word for word, is_so in holds.items() if is_so)
