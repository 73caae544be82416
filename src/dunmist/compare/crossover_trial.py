"""Test if other tasks follow a suspect that is paused and resumed several times.

The order of the phases is drawn at random from all that were allowed, so that whatever else happens
on the computer meanwhile knows nothing of it. The chance of such a result is counted, not modelled:
how many random orders show as much. This is a randomisation test for alternating treatments
(Edgington and Onghena 2007, Randomization Tests, 4th edition, chapter 11). The interval holds every
constant effect that the same test would not reject.
"""

import random
from collections.abc import Sequence
from functools import cache
from itertools import combinations, groupby
from typing import NamedTuple

import numpy as np

from dunmist.series import Floats, Rate

Order = tuple[bool, ...]
# the usual bar: one experiment in twenty without a cause would pass
CHANCE_MOST = 0.05
# the interval is looked for within so many times what the phases differ, in so many steps
REACH, STEPS = 3.0, 4001


class Design(NamedTuple):
    """Schedule of pausing and resuming a suspect."""

    phases: int
    paused: int  # number of phases with the suspect paused
    paused_row: int  # how many paused phases may follow one another
    running_row: int  # how many running ones
    phase_s: float


class Phase(NamedTuple):
    """One phase, in seconds after the first tick."""

    begin_s: float
    end_s: float
    paused: bool


class Experiment(NamedTuple):
    """An alternation that was carried out."""

    design: Design
    phases: list[Phase]


class Alternated(NamedTuple):
    """Means over phases with the suspect running and paused."""

    running: float
    paused: float
    low: float  # 95 % bounds of the difference, paused less running
    high: float
    p_value: float  # how often chance alone would make the difference as small

    @property
    def fall(self) -> float:
        """The share of it that goes while the suspect is paused; below 0 where there is more."""
        return 1.0 - self.paused / self.running if self.running > 0 else 0.0


@cache
def allowed_orders(design: Design) -> tuple[Order, ...]:
    """Return every order that may be drawn, True for a paused phase."""
    orders = []
    for paused_phases in combinations(range(design.phases), design.paused):
        order = tuple(phase in paused_phases for phase in range(design.phases))
        rows = [(paused, len(list(row))) for paused, row in groupby(order)]
        most = {True: design.paused_row, False: design.running_row}
        if all(length <= most[paused] for paused, length in rows):
            orders.append(order)
    return tuple(orders)


def draw_order(design: Design) -> Order:
    """Return one of them, drawn at random."""
    return random.SystemRandom().choice(allowed_orders(design))


def phase_values(
    amount: Rate, of: Rate | None, phases: Sequence[Phase], settle_s: float, floor: float = 0.0
) -> Floats:
    """Return the mean of each phase, shape (phases,); NaN if nothing was sampled.

    With ``of`` it is a share of that, which counts as ``floor`` at least. The first ``settle_s`` of
    each phase are left out, and so is every interval that is not wholly inside.
    """
    line = amount.line
    begins, ends, spans_s = line.at_s[:-1], line.at_s[1:], line.interval_s
    values = []
    for phase in phases:
        inside = (begins >= phase.begin_s + settle_s) & (ends <= phase.end_s)
        inside &= ~np.isnan(amount.values)
        span_s = float(spans_s[inside].sum())
        if span_s <= 0:
            values.append(np.nan)
            continue
        mean = float((amount.values * spans_s)[inside].sum()) / span_s
        if of is not None:
            whole = float(np.nansum((of.values * spans_s)[inside])) / span_s
            mean /= max(whole, floor)
        values.append(mean)
    return np.array(values)


def effect_of_pausing(values: Floats, order: Order, design: Design) -> Alternated | None:
    """Return the effect of pausing the suspect; None if a phase is unknown."""
    if np.isnan(values).any():
        return None
    orders = np.array(allowed_orders(design), dtype=float)
    # result of each order: the mean of its paused phases less that of the others
    weights = orders / design.paused - (1 - orders) / (design.phases - design.paused)
    drawn = np.array(order, dtype=float)
    own = drawn / design.paused - (1 - drawn) / (design.phases - design.paused)
    by_order, observed = weights @ values, float(own @ values)
    slack = 1e-12 * max(1.0, float(np.abs(values).max()))
    p_value = float((by_order <= observed + slack).mean())
    low, high = _interval(by_order, weights @ drawn, observed, slack)
    paused = np.array(order)
    return Alternated(
        float(values[~paused].mean()), float(values[paused].mean()), low, high, p_value
    )


def _interval(
    by_order: Floats, share: Floats, observed: float, slack: float
) -> tuple[float, float]:
    """Return the least and the greatest constant effect that is not rejected."""
    reach = REACH * max(float(np.abs(by_order).max()), abs(observed), slack)
    effects = np.linspace(observed - reach, observed + reach, STEPS)
    without = np.abs(by_order[:, None] - effects * share[:, None])
    as_much = without >= np.abs(observed - effects) - slack
    kept = effects[as_much.mean(axis=0) > CHANCE_MOST]
    return float(kept.min()), float(kept.max())
