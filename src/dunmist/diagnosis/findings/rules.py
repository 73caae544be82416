"""A rule of findings, and the list of all rules: each registers itself where it is written."""

from collections.abc import Callable
from inspect import signature
from types import ModuleType
from typing import NamedTuple

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import Finding
from dunmist.diagnosis.strained_resources import StrainedResources
from dunmist.diagnosis.words import Kind

Find = Callable[..., list[Finding]]


class Rule(NamedTuple):
    """A function that finds something, and the kinds of finding that it may return."""

    kinds: tuple[Kind, ...]
    find: Find
    needs: frozenset[str]  # names of its parameters: ``exam``, ``strained`` or both

    def findings(self, exam: Examination, strained: StrainedResources) -> list[Finding]:
        """Return its findings in a capture."""
        given = {"exam": exam, "strained": strained}
        return self.find(**{name: given[name] for name in self.needs})


_RULES: list[Rule] = []


def finds(*kinds: Kind) -> Callable[[Find], Find]:
    """Register a rule by the kinds of finding that it may return."""

    def register(find: Find) -> Find:
        _RULES.append(Rule(kinds, find, frozenset(signature(find).parameters)))
        return find

    return register


def rules_of(subject: ModuleType) -> list[Rule]:
    """Return the rules of a module, in the order in which they are written."""
    return [rule for rule in _RULES if rule.find.__module__ == subject.__name__]
