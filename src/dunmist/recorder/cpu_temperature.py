"""The temperature and the clock of the CPU while it is sampled, by the rules of the triage."""

from collections.abc import Mapping

from dunmist.captures import Header
from dunmist.computer.sensor_choice import is_meant, limit_of, sensor_choice
from dunmist.sampling import Tick
from dunmist.sampling.deltas import Interval
from dunmist.thresholds.heat import HeatLimits

# hwmon gives thousandths of a degree
RAW_PER_DEGREE = 1000.0


class CpuTemperature:
    """Follows the sensors that stand for the CPU."""

    def __init__(self, header: Header) -> None:
        self._sensors = header.inventory.sensors
        self._raw: dict[int, int | None] = {}

    def read(self, tick: Tick) -> None:
        """Take the sensors that a tick has."""
        self._raw.update(dict(tick.sensors))

    def all(self) -> list[tuple[float, float | None]]:
        """Return temperature and limit, in °C, of each sensor that stands for the CPU."""
        choice = sensor_choice()
        low, high = choice["plausible"]["temperature"]
        plausible = [
            (self._sensors[index], raw / RAW_PER_DEGREE)
            for index, raw in self._raw.items()
            if raw is not None
            and index < len(self._sensors)
            and self._sensors[index].quantity == "temperature"
            and low <= raw / RAW_PER_DEGREE <= high
        ]
        for rule in choice["processor"]:
            matching = [
                (celsius, limit_of({n: v / RAW_PER_DEGREE for n, v in sensor.limits.items()}))
                for sensor, celsius in plausible
                if is_meant(rule, sensor.chip, sensor.label)
            ]
            if matching:
                return matching
        return []


def lost_clock(
    tick: Tick, interval: Interval, max_khz: Mapping[int, int | None], table: HeatLimits
) -> float:
    """Return the share of the clock that busy CPUs lack."""
    ratios = []
    numbers = sorted(tick.processors.times_clk)
    for number, khz in zip(numbers, tick.clocks_khz or [], strict=False):
        most, use = max_khz.get(number), interval.cpus.get(number)
        if khz and most and use is not None and use.busy >= table.busy_processor:
            ratios.append(khz / most)
    return max(0.0, 1 - sum(ratios) / len(ratios) / table.full_clock) if ratios else 0.0
