"""Find figures that drift on many computers of a fleet, beyond chance.

A computer counts once, by its newest history. How often a figure drifts by chance is what the other
figures of the fleet do, and never less than the rate of false drifts.
"""

from collections import Counter, defaultdict
from collections.abc import Sequence
from typing import NamedTuple

from dunmist.fleet.records import DriftRow, HistoryRecord
from dunmist.fleet.shares import CHANCE_MOST, LEAST_WITH, Share, beyond_chance, share

# of one figure, found at any time of a year: docs/history.md has one false drift in 100 years of
# computers with some thirteen figures
FALSE_LEAST = 0.001


class DriftTogether(NamedTuple):
    """A figure that drifts on more computers than by chance, and what was changed before."""

    kind: str
    name: str | None
    computers: Share  # of those that have the figure
    chance: float
    change: str | None  # the one that most of them have about then
    change_on: int
    since: str  # the first of the dates


def drifts_together(records: Sequence[HistoryRecord]) -> list[DriftTogether]:
    """Return the drifts that several computers share, the surest first."""
    followed = Counter(figure for record in records for figure in record.history.followed)
    found: dict[str, list[DriftRow]] = defaultdict(list)
    for record in records:
        for drift in record.drifts:
            found[drift.figure].append(drift)
    drifting, all_followed = sum(map(len, found.values())), followed.total()
    tested = []
    for figure, drifts in found.items():
        count, of = len(drifts), followed[figure]
        others = max(1, all_followed - of)
        rate = max(FALSE_LEAST, (drifting - count) / others)
        if count >= LEAST_WITH:
            tested.append(_tested(drifts, of, rate))
    # all that are followed were tried, those that drift nowhere too
    return beyond_chance(tested, len(followed), CHANCE_MOST)


def _tested(drifts: list[DriftRow], of: int, rate: float) -> DriftTogether:
    from scipy.stats import binom

    changes = Counter(change for drift in drifts for change in set(drift.changes))
    change, change_on = max(changes.items(), key=lambda each: each[1], default=(None, 0))
    first = drifts[0]
    return DriftTogether(
        first.kind,
        first.name,
        share(len(drifts), of),
        float(binom.sf(len(drifts) - 1, of, rate)),
        change if change_on >= LEAST_WITH else None,
        change_on,
        min(drift.since for drift in drifts),
    )
