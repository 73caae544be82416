"""Judge a crossover trial: the suspect is the cause, a part of it, or has no effect."""

from collections.abc import Collection
from typing import Literal, NamedTuple

from dunmist.compare.crossover_trial import (
    Alternated,
    Experiment,
    Order,
    effect_of_pausing,
    phase_values,
)
from dunmist.compare.following import Following, followed
from dunmist.compare.resampling import CHANCE_MOST
from dunmist.diagnosis import ProveLimits, ResourceWord
from dunmist.series import Application, Series

ProofAnswer = Literal["cause", "part", "nothing", "nobody-waits", "unsure", "disturbed"]
# seconds left out at the beginning of a phase: a queue runs empty within one, while data held at
# both ends of a connection lasts longer
SETTLE_S: dict[Following, float] = {"waiting": 0.75, "queue": 1.0, "bytes": 2.0, "pace": 2.0}


class Proof(NamedTuple):
    """The answer, and what it rests on; ``alternated`` is None if not every phase was sampled.

    ``following`` says what must follow: others' waiting, a disk's queue, what a link carries, or
    the time that others take for a byte.
    """

    answer: ProofAnswer
    following: Following | None = None
    alternated: Alternated | None = None


def proof_of(
    series: Series,
    resource_key: tuple[ResourceWord, str | None],
    suspects: Collection[Application],
    experiment: Experiment,
    limits: ProveLimits,
) -> Proof:
    """Return the figures that follow the suspects; ``resource_key`` is a resource and its name."""
    design, phases = experiment
    following = followed(series, *resource_key, suspects)
    if following is None or len(phases) < design.phases:
        return Proof("disturbed")
    settle_s = min(SETTLE_S[following.what], design.phase_s / 2)
    values = phase_values(following.amount, following.of, phases, settle_s, following.floor)
    order: Order = tuple(phase.paused for phase in phases)
    effect = effect_of_pausing(values, order, design)
    if effect is None:
        return Proof("disturbed", following.what)
    return Proof(_answer(effect, following.what, limits), following.what, effect)


def _answer(alternated: Alternated, what: Following, limits: ProveLimits) -> ProofAnswer:
    least: dict[Following, float] = {
        "waiting": limits.waiting_least,
        "queue": limits.queue_least,
        "bytes": limits.bytes_least,
        "pace": 0.0,
    }
    if alternated.running < least[what]:
        return "nobody-waits"
    if alternated.fall < limits.part_fall:
        return "nothing"
    if alternated.p_value > CHANCE_MOST:
        return "unsure"
    return "cause" if alternated.fall >= limits.cause_fall else "part"
