"""Did it get better? One answer of all differences, and what came, went and stayed."""

from itertools import chain
from typing import Literal, NamedTuple

from dunmist.compare.comparable import Hindrance, Match, hindrance
from dunmist.compare.cooling import cooling_worse
from dunmist.compare.figures import (
    Examined,
    application_figures,
    cooling_figures,
    resource_figures,
    resource_key,
)
from dunmist.compare.significance import Difference, tested
from dunmist.diagnosis import LEVELS, Finding, is_strained

Answer = Literal["better", "worse", "no clear change", "cannot be compared"]
# the answer goes by pressure first, then by use
DECIDES = ("held-up", "used")


class Comparison(NamedTuple):
    """Two captures compared."""

    before: Examined
    after: Examined
    answer: Answer
    hindrance: Hindrance | None  # why they cannot be compared
    differences: list[Difference]
    came: list[Finding]  # findings above notes of the second alone
    went: list[Finding]  # of the first alone
    stayed: list[Finding]  # of both, as they are in the second

    @property
    def clear(self) -> list[Difference]:
        """The differences that are more than chance and matter, the most telling first.

        Pressure counts most, then use, then the usage of applications.
        """
        differences = [difference for difference in self.differences if difference.is_clear]
        return sorted(differences, key=_by_importance)


def _by_importance(difference: Difference) -> tuple[int, float]:
    what = difference.figure.what
    rank = DECIDES.index(what) if what in DECIDES else len(DECIDES)
    return rank, -abs(difference.change) / difference.figure.least


def compare(before: Examined, after: Examined, match: Match = "both") -> Comparison:
    """Return the changes from one capture to another."""
    came, went, stayed = _findings(before, after)
    in_the_way = hindrance(before, after, match)
    if in_the_way is not None:
        return Comparison(before, after, "cannot be compared", in_the_way, [], came, went, stayed)
    colder = cooling_worse([before], after)
    came += [colder] if colder else []
    differences = tested(
        chain(
            resource_figures(before, after),
            cooling_figures(before, after),
            (
                application_figure
                for application_figure in application_figures(before, after)
                if application_figure.is_seen
            ),
        )
    )
    answer = _answer(before, after, differences)
    return Comparison(before, after, answer, None, differences, came, went, stayed)


def _answer(before: Examined, after: Examined, differences: list[Difference]) -> Answer:
    """Return the answer by the resources that limited before or do afterwards."""
    states = [
        {resource_key(state): state for state in exam.diagnosis.resources}
        for exam in (before, after)
    ]
    better = worse = False
    for key in states[0].keys() & states[1].keys():
        levels = [LEVELS.index(state[key].level) for state in states]
        if not any(is_strained(state[key].level) for state in states):
            continue
        change = _change(key, differences)
        if change < 0 and levels[1] <= levels[0]:
            better = True
        elif change > 0 and levels[1] >= levels[0]:
            worse = True
    if worse:
        return "worse"
    return "better" if better else "no clear change"


def _change(key: tuple[str, str | None], differences: list[Difference]) -> int:
    """Return -1 where a resource clearly holds up or has less, 1 where more, 0 where neither."""
    for what in DECIDES:
        for difference in differences:
            figure = difference.figure
            if difference.is_clear and (figure.what, figure.resource, figure.name) == (what, *key):
                return -1 if difference.change < 0 else 1
    return 0


def _findings(
    before: Examined, after: Examined
) -> tuple[list[Finding], list[Finding], list[Finding]]:
    first, second = (
        {
            (finding.kind, finding.subject): finding
            for finding in examined.diagnosis.findings
            if finding.severity != "note"
        }
        for examined in (before, after)
    )
    return (
        [second[key] for key in second if key not in first],
        [first[key] for key in first if key not in second],
        [second[key] for key in second if key in first],
    )
