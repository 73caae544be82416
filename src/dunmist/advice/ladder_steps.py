"""Fill the steps of a ladder that fit the circumstances, each with its act.

``ladder.toml`` says which step fits; ``filling`` has the names, numbers and units that go
into its text. ``dunmist fix`` can carry out a step that has an act.
"""

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any, NamedTuple

from dunmist.advice.acts import Act, Target, Verb
from dunmist.advice.evidence import rounded
from dunmist.advice.guilty_part import GuiltyPart
from dunmist.advice.program_facts import About
from dunmist.advice.template_values import limit_percent
from dunmist.advice.triage import RISKS, Frees, Step
from dunmist.advice.wording import ladder
from dunmist.computer import StartEntry
from dunmist.diagnosis import Freed, Thresholds, thresholds
from dunmist.series import Process

if TYPE_CHECKING:
    from dunmist.advice.case import Case


class FilledStep(NamedTuple):
    """A step as people read it, what goes after "First" in a verdict, and its act, if any."""

    step: Step
    brief: str
    act: Act | None


class Acting(NamedTuple):
    """Target of acts: one application, or a unit or start entry that has none.

    ``freed`` is what would be free if the application were gone.
    """

    about: About | None = None
    unit: str | None = None
    limits: Thresholds = thresholds()
    freed: Freed | None = None
    part: GuiltyPart | None = None
    entry: StartEntry | None = None
    user: str | None = None  # the user whose entry is switched off

    def act(self, verb: Verb | None, *, of_part: bool = False) -> Act | None:
        """Return the act for a verb; None if a step needs a person."""
        if verb is None:
            return None
        if self.about is None:
            file = self.entry.file if self.entry else None
            return Act(verb, unit=self.unit, user=self.user, file=file)
        about, application = self.about, self.about.process.application
        entry = about.origin.entry
        is_login = verb == "disable-autostart"
        return Act(
            verb,
            targets=_targets_of([self.part.process])
            if of_part and self.part
            else _targets(about, verb),
            unit=about.origin.name if verb == "disable-timer" else application.unit,
            user=about.owner if is_login else application.manager_user,
            percent=limit_percent(application, self.limits) if verb == "limit" else None,
            file=entry.file if entry else None,
        )


def act_against(case: "Case", verb: Verb) -> Act:
    """Return an act on an application that no step of its ladder has."""
    act = Acting(about=case.about).act(verb)
    assert act is not None  # a verb was given
    return act


def _targets(about: About, verb: Verb) -> list[Target]:
    application, living = about.process.application, about.process.application.living
    main = application.main
    # one is asked to end and takes its children with it; everything else is done to each
    return _targets_of([main] if verb == "end" and main in living else living)


def _targets_of(processes: Iterable[Process]) -> list[Target]:
    return [
        Target(
            process.pid,
            process.facts.start_clk,
            process.name,
            process.facts.uid,
            process.facts.user,
        )
        for process in processes
    ]


def filled_steps_of(
    names: list[str], holding: frozenset[str], filling: dict[str, str], acting: Acting
) -> list[FilledStep]:
    """Return the named steps that fit what is so, safest first."""
    steps = ladder()["step"]
    fitting = [name for name in names if _fits(steps[name], holding)]
    fitting.sort(
        key=lambda name: (steps[name].get("last_if") in holding, RISKS.index(steps[name]["risk"]))
    )
    return [
        FilledStep(
            _step(name, steps[name], filling, _freed(steps[name], acting)),
            steps[name].get("brief", "").format_map(filling),
            acting.act(steps[name].get("act"), of_part=steps[name].get("target") == "part"),
        )
        for name in fitting
    ]


def _fits(step: dict[str, Any], holding: frozenset[str]) -> bool:
    some, every, none = (frozenset(step.get(key, ())) for key in ("any", "all", "unless"))
    return (
        (not some or not some.isdisjoint(holding)) and every <= holding and none.isdisjoint(holding)
    )


def _freed(template: dict[str, Any], acting: Acting) -> Freed | None:
    """Return the part of the application's usage that a step frees."""
    freed, about = acting.freed, acting.about
    if freed is None or about is None or template.get("frees") is None:
        return None
    if template["frees"] == "all":
        return freed
    if template["frees"] == "part":
        return freed._replace(value=freed.value * acting.part.share) if acting.part else None
    # a limit is one of CPU time
    left = limit_percent(about.process.application, acting.limits) / 100.0
    return freed._replace(value=freed.value - left) if left < freed.value else None


def frees_of(freed: Freed | None) -> Frees | None:
    """Return the savings in the units of the triage."""
    return Frees(freed.resource, rounded(freed.value), freed.unit) if freed else None


def _step(
    name: str, template: dict[str, Any], filling: dict[str, str], freed: Freed | None
) -> Step:
    command, undo = template.get("command"), template.get("undo")
    return Step(
        action=name,
        text=template["text"].format_map(filling).strip(),
        command=command.format_map(filling) if command else None,
        risk=template["risk"],
        undo=undo.format_map(filling) if undo else None,
        check=template["check"].format_map(filling),
        frees=frees_of(freed),
    )
