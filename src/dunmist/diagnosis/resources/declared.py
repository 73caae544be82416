"""Define the declaration of a resource; judge and ranking work from it alone."""

from collections.abc import Callable, Mapping
from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import EvidenceFigure, Freed
from dunmist.diagnosis.words import DemandUnit, FreedUnit, LevelWord, ResourceWord
from dunmist.series import Application, Floats, Rate

# keeps a quotient finite where nothing was used at all
NOTHING = 1e-12


class ResourceInstance(NamedTuple):
    """One instance of a resource: a disk, a link, the memory."""

    name: str | None  # None if there is only one
    used: Rate | float  # a plain share for what is not read at every tick
    pressure: Rate | None
    conditions: Mapping[LevelWord, Rate]  # of each interval, whether it is at a level
    evidence: list[EvidenceFigure]
    level: LevelWord | None = None  # given where ``used`` is a plain share
    pressure_value: float | None = None  # stands for what lasted, where another figure is better
    used_value: float | None = None
    errors: int | None = None


class Demand(NamedTuple):
    """Amount of a resource that applications have.

    ``has`` is the amount of each application over time, ``whole`` that of all; ``parts`` is each
    one's share in the strain, shape (applications,), which add up to at most 1.
    """

    has: list[Rate]
    whole: Rate
    unit: DemandUnit
    parts: Floats


class Saving(NamedTuple):
    """Amount that ending an application would free, from its use during the capture.

    Amounts are means over the capture, so that those of all applications add up to no more than
    what was in use.
    """

    resource: ResourceWord
    amount: Callable[[Application], float]
    unit: FreedUnit

    def of(self, application: Application) -> Freed | None:
        """Return the savings of an application; None if there are none."""
        value = 0.0 if application.kernel else self.amount(application)
        return Freed(self.resource, value, self.unit) if value > 0 else None


class Resource(NamedTuple):
    """One resource that can limit."""

    word: ResourceWord
    cause_rank: int | None  # causes before effects, 0 first; None for what never limits by itself
    instances: Callable[[Examination], list[ResourceInstance]]  # all that there are of it
    # of each application; None if it cannot be attributed
    demand: Callable[[Examination], Demand] | None
    saving: Saving | None  # None if it is unknown what ending a program frees
    # share of what the kernel counted that was given to somebody; None if that is not counted
    coverage: Callable[[Examination], float | None] | None
    follows_at_once: bool  # a pause of seconds frees it, so an experiment can prove who takes it
    is_load: bool = True  # counts for how busy a computer is


def shares_of(amounts: list[float]) -> Floats:
    """Return each amount's share of their sum."""
    values = np.asarray(amounts, dtype=float)
    shares: Floats = values / max(float(values.sum()), NOTHING)
    return shares


def traffic_coverage(exam: Examination, moved: list[Rate], attributed: list[Rate]) -> float | None:
    """Return the attributed share of what devices moved; None if they moved hardly anything."""
    total = sum(rate.total() for rate in moved)
    if total < exam.limits.coverage.traffic_least_bytes:
        return None
    return min(1.0, sum(rate.total() for rate in attributed) / total)


def flow_demand(
    exam: Examination,
    amount: Callable[[Application], Rate],
    unit: DemandUnit,
    whole: Rate | None = None,
) -> Demand:
    """Return a demand for what flows: each application's part is its part of all that flowed."""
    has = [amount(application) for application in exam.applications]
    parts = shares_of([rate.total() for rate in has])
    return Demand(has, whole or Rate.total_of(exam.series.line, has), unit, parts)
