"""Model the temperature of a package, and its effect on the clock.

First order: the package takes power from load and clock, gives it to the air through a resistance
that depends on fan and dust, and settles with one time constant. Close to the critical point it
lowers its clock step by step and counts each time it begins to; once cool enough it goes up again.
"""

import math
from dataclasses import dataclass

from dunmist.simulation.scenario import HeatSpec

POWER_EXPONENT = 2.5  # of the clock: voltage goes down with it
NATURAL_DRAUGHT = 0.18  # air that moves without a fan, as a share of the full fan's
# between these the fan goes from its least to its full speed
FAN_FROM, FAN_TO = 45.0, 88.0
THROTTLE_BELOW, RELEASE_BELOW = 2.0, 6.0  # K below the critical point
CLOCK_STEP_PER_S = 0.5
# a package that protects itself goes no lower
LEAST_CLOCK = 0.25
EVENTS_PER_S = 2.5


@dataclass(slots=True)
class Package:
    """One package and its counters."""

    spec: HeatSpec
    celsius: float = 40.0
    clock_share: float = 1.0  # of the clock that heat leaves
    power_w: float = 0.0
    fan_share: float = 0.0
    throttle_events: float = 0.0  # fractions of one are kept for the next step
    throttled: bool = False

    def settle(self, used: float) -> None:
        """Take the state that this load leads to in the end."""
        for _ in range(600):
            self.step(used, 0.5)
        self.throttle_events = 0.0

    @property
    def throttles(self) -> int:
        """Number of times that heat cut the clock."""
        return int(self.throttle_events)

    def step(self, used: float, step_s: float) -> None:
        """Move on with a share of its CPUs in use."""
        spec = self.spec
        self.power_w = (
            spec.idle_w + (spec.full_w - spec.idle_w) * used * self.clock_share**POWER_EXPONENT
        )
        wanted = min(1.0, max(0.0, (self.celsius - FAN_FROM) / (FAN_TO - FAN_FROM)))
        self.fan_share = wanted if spec.fan_works else 0.0
        air = NATURAL_DRAUGHT + (1 - NATURAL_DRAUGHT) * self.fan_share
        resistance = spec.resistance * (1 + spec.dust) / math.sqrt(air)
        target = spec.ambient_celsius + self.power_w * resistance
        self.celsius += (target - self.celsius) * (1 - math.exp(-step_s / spec.settles_s))
        self._throttle(step_s)

    def _throttle(self, step_s: float) -> None:
        margin = self.spec.critical_celsius - self.celsius
        if self.throttled and self.clock_share < 1.0:
            # the hardware tries a little more again and again, and is cut each time
            self.throttle_events += EVENTS_PER_S * step_s
        if margin < THROTTLE_BELOW:
            self.throttled = True
            self.clock_share = max(LEAST_CLOCK, self.clock_share - CLOCK_STEP_PER_S * step_s)
        elif margin > RELEASE_BELOW:
            self.throttled = False
            self.clock_share = min(1.0, self.clock_share + CLOCK_STEP_PER_S * step_s / 4)

    @property
    def fan_rpm(self) -> float:
        """Turns a minute; the least speed even when cool, none when it does not work."""
        spec = self.spec
        if not spec.fan_works:
            return 0.0
        return spec.fan_least_rpm + (spec.fan_most_rpm - spec.fan_least_rpm) * self.fan_share
