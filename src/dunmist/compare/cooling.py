"""Is it cooled worse than it was? The same load, or the same power, makes it hotter.

Where the package's power is published, the difference at equal power is given in K/W as well. This
thermal resistance is a property of cooler, paste and dust, and not of what runs. Only a warmer room
does the same; nothing on most computers measures that.
"""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from dunmist.compare.figures import Examined, at_equal_use
from dunmist.compare.resampling import CHANCE_MOST, difference_of_means
from dunmist.diagnosis import Finding, figure
from dunmist.series import Floats


class Warmer(NamedTuple):
    """By how much the processor is hotter at the same load; ``k_per_w`` where power is known."""

    kelvin: float
    k_per_w: float | None


def warmer(before: Examined, after: Examined) -> Warmer | None:
    """Return the rise in temperature at equal load; None if it is not beyond chance."""
    sensors = [exam.series.processor_sensor for exam in (before, after)]
    if sensors[0] is None or sensors[1] is None:
        return None
    celsius = [sensor.level.at_ends().values for sensor in sensors if sensor]
    powers = [exam.series.package_power for exam in (before, after)]
    watts = [power.values for power in powers if power is not None]
    by_power = len(watts) == 2
    loads = watts if by_power else [exam.series.machine.used.values for exam in (before, after)]
    # as shares of the most there was, so that a power reaches as far as a use does
    most = max((float(rate.max()) for rate in map(_known, loads) if len(rate)), default=0.0)
    scale = most if by_power and most > 0 else 1.0
    equal = at_equal_use(
        (celsius[0], loads[0] / scale), (celsius[1], loads[1] / scale), after.limits
    )
    if equal is None:
        return None
    difference = difference_of_means(*equal)
    if difference.p_value > CHANCE_MOST or difference.difference < after.limits.least_kelvin:
        return None
    mean_w = float(_known(watts[1]).mean()) if by_power else 0.0
    return Warmer(difference.difference, difference.difference / mean_w if mean_w > 0 else None)


def cooling_worse(before: Sequence[Examined], after: Examined) -> Finding | None:
    """Return that a computer is cooled worse than in each of the captures that tell."""
    compared = [(earlier, warmer(earlier, after)) for earlier in before]
    hotter = [(earlier, warm) for earlier, warm in compared if warm is not None]
    if not hotter or len(hotter) < len(before):
        return None
    # the least of them is what can be said
    then, least = min(hotter, key=lambda pair: pair[1].kelvin)
    evidence = [figure("cooling-hotter", least.kelvin, since=then.series.header.started[:10])]
    if least.k_per_w is not None:
        evidence.append(figure("cooling-resistance", least.k_per_w))
    return Finding("cooling-worse", "concern", None, evidence)


def _known(values: Floats) -> Floats:
    known: Floats = values[~np.isnan(values)]
    return known
