"""Everything besides processors, memory and processes: one collector, one record of series."""

from dataclasses import dataclass, field

import numpy as np

from dunmist.computer import Inventory, PowerSupply
from dunmist.sampling import Tick
from dunmist.series.disks import FIGURES as DISK_FIGURES
from dunmist.series.disks import DiskSeries, disk_series
from dunmist.series.disks import figures_of as disk_figures
from dunmist.series.links import FIGURES as LINK_FIGURES
from dunmist.series.links import LinkSeries, link_series
from dunmist.series.links import figures_of as link_figures
from dunmist.series.rates import Floats, increments
from dunmist.series.sensors import Correction, SensorSeries, sensor_series
from dunmist.series.sparse import Sparse

US_PER_S = 1e6


@dataclass(frozen=True, slots=True)
class GroupSeries:
    """One control group over the intervals: shares of time in which its tasks were held up.

    ``limited`` is the share of the quota's periods in which the quota ran out, ``stalled`` the
    share of time in which some task waited, by resource.
    """

    path: str
    quota_cores: float | None
    limited: Floats
    stalled: dict[str, Floats]


@dataclass(frozen=True, slots=True)
class GraphicsSeries:
    """One graphics card over the ticks; NaN is 'not published'."""

    name: str
    busy: Floats
    memory_used_bytes: Floats
    clock_hz: Floats


@dataclass(frozen=True, slots=True)
class DeviceSeries:
    """Series of all devices.

    ``throttled`` counts by interval how often heat cut the clock, by kind (core, package).
    ``supplies`` are the newest words of each battery and mains supply. ``tcp`` and ``interrupts``
    count over the whole capture; ``graphics_s`` is engine time of each process in seconds.
    """

    disks: list[DiskSeries]
    links: list[LinkSeries]
    sensors: list[SensorSeries]
    groups: list[GroupSeries]
    graphics: list[GraphicsSeries]
    throttled: dict[str, Floats]
    supplies: dict[str, PowerSupply]
    tcp: dict[str, int]
    interrupts: dict[str, int]
    graphics_s: dict[int, float]


STALLS = ("cpu", "memory", "io")


@dataclass(slots=True)
class DeviceCollector:
    """Gathers what ticks say of devices."""

    disks: Sparse[str] = field(default_factory=lambda: Sparse(len(DISK_FIGURES)))
    links: Sparse[str] = field(default_factory=lambda: Sparse(len(LINK_FIGURES)))
    sensors: Sparse[int] = field(default_factory=lambda: Sparse(1))
    throttles: Sparse[int] = field(default_factory=lambda: Sparse(2))
    groups: Sparse[str] = field(default_factory=lambda: Sparse(2 + len(STALLS)))
    graphics: Sparse[str] = field(default_factory=lambda: Sparse(3))
    quotas: dict[str, float | None] = field(default_factory=dict)
    supplies: dict[str, PowerSupply] = field(default_factory=dict)
    first: dict[str, dict[str, int]] = field(default_factory=lambda: {"tcp": {}, "interrupts": {}})
    last: dict[str, dict[str, int]] = field(default_factory=lambda: {"tcp": {}, "interrupts": {}})
    engines: dict[tuple[int, str], tuple[int, int]] = field(default_factory=dict)

    def add(self, row: int, tick: Tick) -> None:
        """Take what the ``row``-th tick says."""
        for disk in tick.disks:
            self.disks.add(row, disk.name, disk_figures(disk))
        for link in tick.links:
            self.links.add(row, link.name, link_figures(link))
        for place, raw in tick.sensors:
            self.sensors.add(row, place, [raw])
        for one in tick.throttles:
            self.throttles.add(row, one.processor, [one.core, one.package])
        for card in tick.graphics:
            self.graphics.add(
                row, card.card, [card.busy_percent, card.memory_used_bytes, card.clock_hz]
            )
        for group in tick.groups:
            self.quotas[group.path] = group.quota_cores
            stalls = [group.stalls_us.get(resource) for resource in STALLS]
            self.groups.add(row, group.path, [group.periods, group.limited_periods, *stalls])
        self.supplies.update({supply.name: supply for supply in tick.supplies})
        for name, words in (("tcp", tick.tcp), ("interrupts", tick.interrupts)):
            for word, count in words.items():
                self.first[name].setdefault(word, count)
                self.last[name][word] = count
        for use in tick.graphics_use:
            total = sum(use.engines_ns.values())
            first, _ = self.engines.get((use.process, use.client), (total, total))
            self.engines[use.process, use.client] = (first, total)

    def finish(
        self,
        inventory: Inventory,
        interval_s: Floats,
        packages: dict[int, int],
        corrections: list[Correction],
    ) -> DeviceSeries:
        """Return the series; ``packages`` maps processors to packages."""
        ticks = len(interval_s) + 1
        return DeviceSeries(
            disks=disk_series(self.disks, inventory.disks, interval_s),
            links=link_series(self.links, inventory.links, interval_s),
            sensors=sensor_series(self.sensors, inventory.sensors, ticks, corrections),
            groups=self._groups(interval_s),
            graphics=[
                GraphicsSeries(name, over[:, 0] / 100.0, over[:, 1], over[:, 2])
                for name, over in self.graphics.over(ticks).items()
            ],
            throttled=_throttled(self.throttles.over(ticks), packages, ticks),
            supplies=self.supplies,
            tcp=self._counted("tcp"),
            interrupts=self._counted("interrupts"),
            graphics_s=self._graphics_s(),
        )

    def _counted(self, name: str) -> dict[str, int]:
        first, last = self.first[name], self.last[name]
        return {word: max(0, last[word] - first[word]) for word in first}

    def _graphics_s(self) -> dict[int, float]:
        used: dict[int, float] = {}
        for (process, _), (first, last) in self.engines.items():
            used[process] = used.get(process, 0.0) + max(0, last - first) / 1e9
        return used

    def _groups(self, interval_s: Floats) -> list[GroupSeries]:
        found = []
        for path, over in self.groups.over(len(interval_s) + 1).items():
            grown = increments(over)
            with np.errstate(invalid="ignore", divide="ignore"):
                limited = np.where(grown[:, 0] > 0, grown[:, 1] / grown[:, 0], 0.0)
            stalled = {
                resource: np.minimum(grown[:, 2 + column] / US_PER_S / interval_s, 1.0)
                for column, resource in enumerate(STALLS)
                if not np.isnan(grown[:, 2 + column]).all()
            }
            found.append(GroupSeries(path, self.quotas[path], limited, stalled))
        return found


def _throttled(over: dict[int, Floats], packages: dict[int, int], ticks: int) -> dict[str, Floats]:
    if not over:
        return {}
    total = {"core": np.zeros(ticks - 1), "package": np.zeros(ticks - 1)}
    counted: set[int] = set()
    for number, counts in over.items():
        grown = np.nan_to_num(increments(counts))
        total["core"] += grown[:, 0]
        package = packages.get(number, 0)
        if package not in counted:  # each processor repeats the count of its package
            counted.add(package)
            total["package"] += grown[:, 1]
    return total
