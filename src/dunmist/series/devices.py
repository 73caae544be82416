"""Collect the series of everything besides CPUs, memory and processes."""

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from dunmist.computer import SECTOR_BYTES, Disk, Inventory, PowerSupply
from dunmist.sampling import SELDOM_S, Tick
from dunmist.series.conservation import Impossible
from dunmist.series.counters import Readings, Track
from dunmist.series.links import LINK_COUNTERS, LinkSeries, link_series
from dunmist.series.sensors import Correction, SensorSeries, sensor_series
from dunmist.series.timeline import Level, Rate, TimeLine
from dunmist.thresholds.disks import DiskKind

MS_PER_S, US_PER_S, NS_PER_S = 1e3, 1e6, 1e9
STALLS = ("cpu", "memory", "io")
DISK_COUNTERS = (
    "reads",
    "read_sectors",
    "read_ms",
    "writes",
    "written_sectors",
    "write_ms",
    "busy_ms",
    "queued_ms",
)
SHARES_OF_100 = 100.0


# disk drivers by major number (Documentation/admin-guide/devices.txt): memory cards, and network
# disks
KIND_NAMES: tuple[tuple[DiskKind, re.Pattern[str]], ...] = (
    ("card", re.compile(r"(?:mmcblk|mspblk)\d")),
    ("network", re.compile(r"(?:rbd|drbd|etherd)")),
)


@dataclass(frozen=True, slots=True)
class DiskSeries:
    """One block device; unknown where a counter fell back."""

    name: str
    about: Disk | None
    is_physical: bool  # false for a partition and for a mapped device
    read_bytes_per_s: Rate
    write_bytes_per_s: Rate
    reads_per_s: Rate
    writes_per_s: Rate
    busy: Rate  # share of time with a request under way
    queue: Rate  # mean number of requests under way
    latency_s: Rate  # mean time of a finished request; unknown without one
    busy_in_all_s: float | None = None  # since the computer started

    @property
    def kind(self) -> DiskKind:
        """Kind of disk; one without a published kind counts as a spinning one."""
        for kind, names in KIND_NAMES:
            if names.match(self.name):
                return kind
        # the kernel takes sticks for spinning ones
        if self.about is not None and self.about.removable:
            return "card"
        return "solid" if self.about is not None and self.about.spins is False else "spinning"

    @property
    def bytes_per_s(self) -> Rate:
        """Bytes moved in both directions."""
        return self.read_bytes_per_s + self.write_bytes_per_s

    @property
    def requests_per_s(self) -> Rate:
        """Finished requests of both directions."""
        return self.reads_per_s + self.writes_per_s


@dataclass(frozen=True, slots=True)
class GroupSeries:
    """One control group.

    ``limited`` is the share of the quota's periods in which the quota ran out, ``stalled`` the
    share of time in which some task waited, by resource.
    """

    path: str
    quota_cores: float | None
    limited: Rate
    stalled: dict[str, Rate]


@dataclass(frozen=True, slots=True)
class GraphicsSeries:
    """One graphics card; unknown is 'not published'. ``busy`` is a share read at each tick."""

    name: str
    busy: Level
    memory_used_bytes: Level
    clock_hz: Level


@dataclass(frozen=True, slots=True)
class DeviceSeries:
    """Series of all devices."""

    disks: list[DiskSeries]
    links: list[LinkSeries]
    sensors: list[SensorSeries]
    groups: list[GroupSeries]
    graphics: list[GraphicsSeries]
    throttled: dict[str, Rate]  # how often heat cut the clock, a second, by kind (core, package)
    throttled_in_all: dict[str, float]  # the same since the computer started
    supplies: dict[str, PowerSupply]  # newest figures of each
    tcp: dict[str, int]  # over the whole capture
    interrupts: dict[str, int]
    graphics_use: dict[int, Rate]  # engine time a second, by identity
    graphics_bytes: dict[int, int]  # memory of cards at the end, by identity

    @property
    def physical_disks(self) -> list[DiskSeries]:
        """The disks that are neither partitions nor mapped onto others."""
        return [disk for disk in self.disks if disk.is_physical]

    @property
    def outward_links(self) -> list[LinkSeries]:
        """The links that lead to other computers."""
        return [link for link in self.links if not link.is_loopback]


class DeviceCollector:
    """Gathers what ticks say of devices."""

    fields = (
        "disks",
        "links",
        "queues",
        "tcp",
        "sensors",
        "throttles",
        "supplies",
        "graphics",
        "graphics_use",
        "groups",
        "interrupts",
    )

    def __init__(self) -> None:
        self._disks: Readings[str] = Readings(*DISK_COUNTERS)
        self._links: Readings[str] = Readings(*LINK_COUNTERS)
        self._queues: Readings[str] = Readings("waiting_bytes", "drops")
        self._sensors: Readings[int] = Readings("raw")
        self._throttles: Readings[int] = Readings("core", "package")
        self._groups: Readings[str] = Readings("periods", "limited_periods", *STALLS)
        self._graphics: Readings[str] = Readings("busy_percent", "memory_used_bytes", "clock_hz")
        self._engines: Readings[tuple[int, str]] = Readings("ns")
        self._card_bytes: dict[tuple[int, str], int] = {}
        self._quotas: dict[str, float | None] = {}
        self._supplies: dict[str, PowerSupply] = {}
        self._tcp: Readings[str] = Readings("count")
        self._interrupts: Readings[str] = Readings("count")

    def __len__(self) -> int:
        return sum(
            len(readings) for readings in vars(self).values() if isinstance(readings, Readings)
        )

    def add(self, row: int, tick: Tick) -> None:
        """Add the figures of the ``row``-th tick."""
        for disk in tick.disks:
            figures = [getattr(disk, name) for name in DISK_COUNTERS]
            self._disks.add(row, disk.name, figures, tick.after_s("disks"))
        for link in tick.links:
            figures = [getattr(link, name) for name in LINK_COUNTERS]
            self._links.add(row, link.name, figures, tick.after_s("links"))
        for queue in tick.queues:
            self._queues.add(row, queue.link, [queue.waiting_bytes, queue.drops])
        for index, raw in tick.sensors:
            self._sensors.add(row, index, [raw])
        for count in tick.throttles:
            figures = [count.core, count.package]
            self._throttles.add(row, count.processor, figures, tick.after_s("throttles"))
        for card in tick.graphics:
            self._graphics.add(
                row, card.card, [card.busy_percent, card.memory_used_bytes, card.clock_hz]
            )
        for group in tick.groups:
            self._quotas[group.path] = group.quota_cores
            stalls = [group.stalls_us.get(resource) for resource in STALLS]
            figures = [group.periods, group.limited_periods, *stalls]
            self._groups.add(row, group.path, figures, tick.after_s("groups"))
        for use in tick.graphics_use:
            if use.memory_bytes is not None:
                self._card_bytes[use.process, use.client] = use.memory_bytes
            self._engines.add(row, (use.process, use.client), [sum(use.engines_ns.values())])
        self._supplies.update({supply.name: supply for supply in tick.supplies})
        for word, total in tick.tcp.items():
            self._tcp.add(row, word, [total])
        for word, total in tick.interrupts.items():
            self._interrupts.add(row, word, [total])

    def finish(
        self,
        inventory: Inventory,
        packages: dict[int, int],
        corrections: Sequence[Correction],
        impossible: Impossible,
    ) -> DeviceSeries:
        """Return the series; ``packages`` maps processors to packages."""
        line = impossible.line
        disks = {disk.name: disk for disk in inventory.disks}
        links = {link.name: link for link in inventory.links}
        queues = self._queues.over(line)
        throttles = self._throttles.over(line)
        return DeviceSeries(
            disks=[
                _disk(name, disks.get(name), track, impossible)
                for name, track in self._disks.over(line).items()
            ],
            links=[
                link_series(name, links.get(name), track, queues.get(name), impossible)
                for name, track in self._links.over(line).items()
            ],
            sensors=sensor_series(self._sensors.over(line), inventory.sensors, line, corrections),
            groups=[
                _group(path, self._quotas[path], track, impossible)
                for path, track in self._groups.over(line).items()
            ],
            graphics=[
                GraphicsSeries(
                    name,
                    track.level("busy_percent") / SHARES_OF_100,
                    track.level("memory_used_bytes"),
                    track.level("clock_hz"),
                )
                for name, track in self._graphics.over(line).items()
            ],
            throttled=_throttled(throttles, packages, line),
            throttled_in_all=_throttled_in_all(throttles, packages),
            supplies=self._supplies,
            tcp=_counted(self._tcp, line),
            interrupts=_counted(self._interrupts, line, SELDOM_S),
            graphics_use=self._graphics_use(line),
            graphics_bytes=self._graphics_bytes(),
        )

    def _graphics_bytes(self) -> dict[int, int]:
        held: Counter[int] = Counter()
        for (identity, _), size in self._card_bytes.items():
            held[identity] += size
        return dict(held)

    def _graphics_use(self, line: TimeLine) -> dict[int, Rate]:
        used: dict[int, Rate] = {}
        for (identity, _), track in self._engines.over(line).items():
            rate = track.rate("ns").known_or(0.0) / NS_PER_S
            used[identity] = used.get(identity, Rate.nothing(line)) + rate
        return used


def _counted(readings: Readings[str], line: TimeLine, read_every_s: float = 0.0) -> dict[str, int]:
    """Return the growth of each kernel counter while sampling, by its word."""
    return {
        word: round(track.rate("count", read_every_s=read_every_s).total())
        for word, track in readings.over(line).items()
    }


def _disk(name: str, about: Disk | None, track: Track, impossible: Impossible) -> DiskSeries:
    reads, writes = track.rate("reads"), track.rate("writes")
    took_s = (track.rate("read_ms") + track.rate("write_ms")) / MS_PER_S
    return DiskSeries(
        name=name,
        about=about,
        is_physical=about is not None and not about.disks_below,
        read_bytes_per_s=track.rate("read_sectors") * SECTOR_BYTES,
        write_bytes_per_s=track.rate("written_sectors") * SECTOR_BYTES,
        reads_per_s=reads,
        writes_per_s=writes,
        busy=impossible.share("busy time of disks", track.rate("busy_ms") / MS_PER_S),
        queue=track.rate("queued_ms") / MS_PER_S,
        latency_s=(took_s / (reads + writes)).where(reads + writes),
        busy_in_all_s=None if (busy_ms := track.total("busy_ms")) is None else busy_ms / MS_PER_S,
    )


def _group(path: str, quota: float | None, track: Track, impossible: Impossible) -> GroupSeries:
    periods, limited = track.rate("periods"), track.rate("limited_periods")
    stalled = {resource: track.rate(resource) / US_PER_S for resource in STALLS}
    return GroupSeries(
        path,
        quota,
        # without a period it was not limited; what was not read is unknown
        (limited / periods).where(periods, 0.0).known_with(periods),
        {
            resource: impossible.share("stall accounting of control groups", share)
            for resource, share in stalled.items()
            if share.is_known
        },
    )


def _throttled(
    tracks: dict[int, Track], packages: dict[int, int], line: TimeLine
) -> dict[str, Rate]:
    return {
        column: Rate.total_of(line, [track.rate(column).known_or(0.0) for track in counted])
        for column, counted in _throttle_counters(tracks, packages).items()
    }


def _throttled_in_all(tracks: dict[int, Track], packages: dict[int, int]) -> dict[str, float]:
    return {
        column: sum(track.total(column) or 0.0 for track in counted)
        for column, counted in _throttle_counters(tracks, packages).items()
    }


def _throttle_counters(
    tracks: dict[int, Track], packages: dict[int, int]
) -> dict[str, list[Track]]:
    """Return the CPUs whose counts add up: all, or one of each package if all repeat the count."""
    if not tracks:
        return {}
    of_package = {packages.get(number, 0): track for number, track in reversed(tracks.items())}
    return {"core": list(tracks.values()), "package": list(of_package.values())}
