"""Limits from which heat is a cause."""

from dunmist.thresholds.units import Celsius, Figures, Kelvin, Share


class HeatLimits(Figures, frozen=True):
    """Heat and clock."""

    # kelvin to the critical point from which the package is close to protecting itself
    near_kelvin: Kelvin = 8.0
    # about twice the distance of strained: warm, and worth a word
    busy_kelvin: Kelvin = 15.0
    # other parts bear their limit less long, and have no clock to lower
    near_kelvin_of_parts: Kelvin = 5.0
    # assumed limit if neither chip nor zone publishes one: most packages protect themselves at 95
    # to 105 °C
    assumed_critical_celsius: Celsius = 100.0
    # the room's temperature is not measured; an ordinary room is taken, and the evidence says so
    room_celsius: Celsius = 25.0
    # a processor that is this busy asks for its full clock, ...
    busy_processor: Share = 0.7
    # ... and below this share of the maximum it lacks some: boost clocks of single cores are above
    # what all cores together can hold
    full_clock: Share = 0.88
    # a clock that swings by less than this between samples is ordinary
    strained_lost: Share = 0.04
    # a third of the speed is gone, which anybody notices
    choked_lost: Share = 0.30
    # share of intervals in which the throttle counters grew
    throttled_share: Share = 0.10
    # a processor that is used less than this should be cool, ...
    idle_used: Share = 0.20
    # ... and above this it is not: dust, paste or a fan
    idle_hot_celsius: Celsius = 68.0
    # many fans stand still on purpose below this
    fan_stopped_celsius: Celsius = 60.0
    # a few busy CPUs reach nearly the greatest clock; this far below it something holds it
    # down
    low_clock: Share = 0.55
    # with more than this part of the CPUs at work none has its greatest clock, and less will
    # do; and below this part of the base clock something holds it down
    few_processors: Share = 0.25
    # thin computers have less than half of it when many processors work; a third is too little
    low_clock_crowded: Share = 0.32
    # a base clock is guaranteed under full load; the rest is the error of reading it
    below_base: Share = 0.95
