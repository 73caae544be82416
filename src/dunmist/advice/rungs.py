"""The rungs of a ladder: the steps that fit what is so, filled in, with what each would do.

Which step fits is told by ``ladder.toml``; ``filling`` has the names, numbers and units that go
into its text. A rung with an act is one that ``dunmist fix`` can carry out.
"""

from typing import Any, NamedTuple

from dunmist.advice.about import About
from dunmist.advice.acts import Act, Target, Verb
from dunmist.advice.filling import limit_percent
from dunmist.advice.triage import RISKS, Step
from dunmist.advice.wording import ladder
from dunmist.diagnosis import Thresholds, thresholds


class Rung(NamedTuple):
    """A step as people read it, what goes after "First" in a verdict, and its act, if any."""

    step: Step
    brief: str
    act: Act | None


class Acting(NamedTuple):
    """For whom acts are filled in: one application, or a unit that has none."""

    about: About | None = None
    unit: str | None = None
    limits: Thresholds = thresholds()

    def act(self, verb: Verb | None) -> Act | None:
        """Return the act for a verb; None where a step needs a person."""
        if verb is None:
            return None
        if self.about is None:
            return Act(verb, unit=self.unit)
        about, application = self.about, self.about.process.application
        entry = about.origin.entry
        is_login = verb == "disable-autostart"
        return Act(
            verb,
            targets=_targets(about, verb),
            unit=about.origin.name if verb == "disable-timer" else application.unit,
            user=about.owner if is_login else application.manager_user,
            percent=limit_percent(application, self.limits) if verb == "limit" else None,
            file=entry.file if entry else None,
        )


def _targets(about: About, verb: Verb) -> list[Target]:
    application = about.process.application
    # one is asked to end and takes its children with it; everything else is done to each
    chosen = (
        [process for process in application.living if process is application.main]
        if verb == "end"
        else application.living
    )
    return [
        Target(one.pid, one.facts.start_clk, one.name, one.facts.uid, one.facts.user)
        for one in chosen
    ]


def rungs_of(
    names: list[str], holding: frozenset[str], filling: dict[str, str], acting: Acting
) -> list[Rung]:
    """Return the named steps that fit what is so, safest first."""
    steps = ladder()["step"]
    rungs = [
        Rung(
            _step(name, steps[name], filling),
            steps[name].get("brief", "").format_map(filling),
            acting.act(steps[name].get("act")),
        )
        for name in names
        if _fits(steps[name], holding)
    ]
    return sorted(rungs, key=lambda rung: RISKS.index(rung.step.risk))


def _fits(step: dict[str, Any], holding: frozenset[str]) -> bool:
    some, every, none = (frozenset(step.get(key, ())) for key in ("any", "all", "unless"))
    return (
        (not some or not some.isdisjoint(holding)) and every <= holding and none.isdisjoint(holding)
    )


def _step(name: str, template: dict[str, Any], filling: dict[str, str]) -> Step:
    command, undo = template.get("command"), template.get("undo")
    return Step(
        action=name,
        text=template["text"].format_map(filling).strip(),
        command=command.format_map(filling) if command else None,
        risk=template["risk"],
        undo=undo.format_map(filling) if undo else None,
        check=template["check"].format_map(filling),
    )
