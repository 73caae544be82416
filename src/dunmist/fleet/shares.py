"""Shares with their intervals, and what is more than chance among many that were tried."""

from collections.abc import Sequence
from typing import NamedTuple, Protocol, Self, TypeVar

# computers that share something before it is tested, and the chance that is allowed
LEAST_WITH, CHANCE_MOST = 3, 0.05


class Share(NamedTuple):
    """So many of so many, with the interval of the share."""

    computers: int
    of: int
    low: float
    high: float


class Tested(Protocol):
    """Something with a probability of its own."""

    @property
    def chance(self) -> float:
        """Probability that it is chance."""
        ...

    def _replace(self, *, chance: float) -> Self: ...


T = TypeVar("T", bound=Tested)


def share(count: int, of: int) -> Share:
    """Return a count with Wilson's interval of its share."""
    if not of:
        return Share(count, of, 0.0, 1.0)
    from scipy.stats import binomtest

    interval = binomtest(count, of).proportion_ci(0.95, "wilson")
    return Share(count, of, float(interval.low), float(interval.high))


def beyond_chance(tested: Sequence[T], tried: int, chance_most: float) -> list[T]:
    """Return the differences beyond chance, the surest first, corrected for their number (Holm).

    Those that are not given are taken to be no more than chance.
    """
    named: list[T] = []
    for each in sorted(tested, key=lambda each: each.chance):
        corrected = each.chance * (tried - len(named))
        if corrected > chance_most:
            break
        named.append(each._replace(chance=corrected))
    return named
