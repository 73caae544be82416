"""The computer at this moment, for who looks while it is recorded: plain sums, nothing judged.

Follows the records of a run. Of each resource it keeps how full it was and how much work it held up
over the last minutes, of each application what it takes now.
"""

from collections import defaultdict, deque
from collections.abc import Callable
from typing import Literal, NamedTuple

from dunmist.applications import Grouping
from dunmist.captures import Header
from dunmist.computer.sensor_choice import is_meant, sensor_choice
from dunmist.recorder.growth import idle_of, processor_growth, stalled_share
from dunmist.recorder.latest_state import Known
from dunmist.sampling import Event, ProcessLine, Record, SocketLine, Tick

# five minutes at one tick a second
HISTORY = 300
MS_PER_S, BITS = 1e3, 8.0
# hwmon gives thousandths of a degree
RAW_PER_DEGREE = 1000.0
# how full a resource is, and how much work it holds up, to be called so
BUSY, STRAINED_USED, STRAINED_HELD, CHOKED_HELD = 0.7, 0.8, 0.2, 0.6
Word = Literal["calm", "busy", "strained", "choked", "unknown"]


class Gauge:
    """One resource: shares now and over the last minutes, None where nothing tells."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.used: deque[float | None] = deque(maxlen=HISTORY)
        self.held: deque[float | None] = deque(maxlen=HISTORY)
        self.text = ""

    def add(self, used: float | None, held: float | None, text: str = "") -> None:
        """Take what was so in an interval."""
        self.used.append(None if used is None else min(max(used, 0.0), 1.0))
        self.held.append(None if held is None else min(max(held, 0.0), 1.0))
        self.text = text

    @property
    def word(self) -> Word:
        """How far it limits, by light rules; the judge of a capture may say otherwise."""
        used = self.used[-1] if self.used else None
        held = (self.held[-1] if self.held else None) or 0.0
        if used is None:
            return "unknown"
        if held >= CHOKED_HELD and used >= STRAINED_USED:
            return "choked"
        if held >= STRAINED_HELD and used >= STRAINED_USED:
            return "strained"
        return "busy" if used >= BUSY else "calm"


class LiveApplication:
    """One application: what it takes now, and its CPU time since it was first seen."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.cores = self.disk_bytes_per_s = self.network_bytes_per_s = 0.0
        self.memory_bytes = 0
        self.cpu_s = 0.0
        self.history: deque[float] = deque(maxlen=HISTORY)
        self.processes: list[Part] = []


class Part(NamedTuple):
    """One process of an application now."""

    pid: int
    user: str
    state: str  # letter of proc_pid_stat(5)
    waits_in: str | None  # kernel function
    cores: float
    memory_bytes: int
    unit: str | None
    ports: tuple[int, ...]


class Now:
    """Follows a run; everything is of the interval that ended with the last tick."""

    def __init__(self, header: Header, known: Callable[[], Known]) -> None:
        self.gauges = {name: Gauge(name) for name in ("cpu", "memory", "disk", "link", "heat")}
        self.processors: list[float] = []
        self.takers: dict[int, LiveApplication] = {}
        self.celsius: float | None = None
        self.clock_hz: float | None = None
        self._header = header
        self._known = known
        self._grouping = Grouping(header.observer)
        self._tick: Tick | None = None
        self._used_clk: dict[int, int] = {}
        self._moved_bytes: dict[int, int] = {}
        self._inode_of: dict[int, int] = {}
        self._owner_of: dict[int, int] = {}
        self._port_of: dict[int, int] = {}
        self._socket_bytes: dict[int, int] = {}
        self._waits_in: dict[int, str | None] = {}
        self._disks: dict[str, tuple[int, int]] = {}
        self._links: dict[str, tuple[int, int]] = {}
        self._sensors: dict[int, int | None] = {}

    def add(self, record: Record) -> None:
        """Take one record into account."""
        if isinstance(record, ProcessLine):
            self._grouping.add(record.id, record.facts)
        elif isinstance(record, SocketLine):
            if record.facts.inode is not None:
                self._inode_of[record.id] = record.facts.inode
                if record.facts.remote_port is None and record.facts.local_port is not None:
                    self._port_of[record.facts.inode] = record.facts.local_port
        elif isinstance(record, Event):
            if record.facts is not None and record.processes:
                self._grouping.replace(record.processes[0], record.facts)
        elif isinstance(record, Tick):
            self._add_tick(record)

    def _add_tick(self, tick: Tick) -> None:
        before, self._tick = self._tick, tick
        for detail in tick.details:
            self._waits_in[detail.process] = detail.waits_in
            self._owner_of.update(dict.fromkeys(detail.sockets, detail.process))
        self._sensors.update(dict(tick.sensors))
        span_s = tick.at_s - before.at_s if before else 0.0
        moved, carried = self._disk_and_link(tick)
        takers = self._takers(tick, span_s)
        if before is None or span_s <= 0:
            return
        self.takers = takers
        self.processors = _busy(tick, before)
        count = max(1, len(self.processors))
        self.gauges["cpu"].add(sum(self.processors) / count, stalled_share(tick, before, "cpu"))
        memory = tick.memory or {}
        total = memory.get("MemTotal") or 0
        available = memory.get("MemAvailable", memory.get("MemFree", 0))
        self.gauges["memory"].add(
            1 - available / total if total else None, stalled_share(tick, before, "memory")
        )
        name, busy_ms = moved
        self.gauges["disk"].add(
            busy_ms / MS_PER_S / span_s if name else None, stalled_share(tick, before, "io"), name
        )
        link, share = carried
        self.gauges["link"].add(share / span_s if link else None, None, link)
        self._heat(tick)

    def _heat(self, tick: Tick) -> None:
        read = self._processor_readings()
        self.celsius = max((celsius for celsius, _ in read), default=None)
        limit = max((critical for _, critical in read if critical), default=None)
        clocks = [clock_khz for clock_khz in tick.clocks_khz or [] if clock_khz]
        self.clock_hz = MS_PER_S * sum(clocks) / len(clocks) if clocks else None
        share = self.celsius / limit if self.celsius is not None and limit else None
        self.gauges["heat"].add(share, None)

    def _processor_readings(self) -> list[tuple[float, float | None]]:
        """Return temperature and limit of what stands for the processor, by the triage's rules."""
        sensors, low_high = self._header.inventory.sensors, sensor_choice()["plausible"]
        low, high = low_high["temperature"]
        plausible = [
            (sensors[place], raw / RAW_PER_DEGREE)
            for place, raw in self._sensors.items()
            if raw is not None
            and place < len(sensors)
            and sensors[place].quantity == "temperature"
            and low <= raw / RAW_PER_DEGREE <= high
        ]
        for rule in sensor_choice()["processor"]:
            matching = [
                (celsius, _degrees(sensor.limits.get("crit")))
                for sensor, celsius in plausible
                if is_meant(rule, sensor.chip, sensor.label)
            ]
            if matching:
                return matching
        return []

    def _disk_and_link(self, tick: Tick) -> tuple[tuple[str, int], tuple[str, float]]:
        """Return the busiest disk with its milliseconds, and the fullest link with its share."""
        disk, link = ("", 0), ("", 0.0)
        for drive in tick.disks:
            busy = drive.busy_ms or 0
            then = self._disks.get(drive.name, (busy, 0))[0]
            self._disks[drive.name] = busy, 0
            disk = max(disk, (drive.name, busy - then), key=lambda pair: pair[1])
        if not disk[0]:
            disk = next(iter(self._disks), ""), 0
        speeds = {link.name: link.speed_bits_per_s for link in self._header.inventory.links}
        for sample in tick.links:
            now = sample.received_bytes, sample.sent_bytes
            old = self._links.get(sample.name, now)
            self._links[sample.name] = now
            speed = speeds.get(sample.name)
            if speed:
                grown = max(now[0] - old[0], now[1] - old[1])
                link = max(link, (sample.name, BITS * grown / speed), key=lambda pair: pair[1])
        if not link[0]:
            link = next((name for name, speed in speeds.items() if speed), ""), 0.0
        return disk, link

    def _takers(self, tick: Tick, span_s: float) -> dict[int, LiveApplication]:
        """Return what each application takes; those that are gone are left out."""
        machine, groups = self._header.machine, self._grouping.groups
        networks = self._network(tick)
        takers: dict[int, LiveApplication] = {}
        used_clk, moved_bytes = {}, {}
        ports: dict[int, set[int]] = defaultdict(set)
        for inode, port in self._port_of.items():
            if inode in self._owner_of:
                ports[self._owner_of[inode]].add(port)
        for line, sample in self._known().states():
            number = self._grouping.application_of.get(line.id)
            if number is None or groups[number].observer or line.facts.kernel:
                continue
            taker = takers.get(number)
            if taker is None:
                taker = takers[number] = LiveApplication(groups[number].name)
                if old := self.takers.get(number):
                    taker.history, taker.cpu_s = old.history, old.cpu_s
            used = sample.user_clk + sample.system_clk
            used_clk[line.id] = used
            grown_s = (used - self._used_clk.get(line.id, used)) / machine.clock_ticks_per_s
            moved = (sample.read_bytes or 0) + (sample.write_bytes or 0)
            moved_bytes[line.id] = moved
            memory = max(0, sample.rss_pages - (sample.shared_pages or 0)) * machine.page_bytes
            cores = grown_s / span_s if span_s else 0.0
            taker.cores += cores
            taker.cpu_s += grown_s
            taker.memory_bytes += memory
            if span_s:
                grown_bytes = moved - self._moved_bytes.get(line.id, moved)
                taker.disk_bytes_per_s += max(0, grown_bytes) / span_s
                taker.network_bytes_per_s += networks.get(line.id, 0) / span_s
            facts = self._grouping.facts(line.id)
            taker.processes.append(
                Part(
                    facts.pid,
                    facts.user or str(facts.uid),
                    sample.state,
                    sample.waits_in or self._waits_in.get(line.id),
                    cores,
                    memory,
                    facts.cgroup,
                    tuple(sorted(ports.get(line.id, ()))),
                )
            )
        self._used_clk, self._moved_bytes = used_clk, moved_bytes
        for taker in takers.values():
            taker.history.append(taker.cores)
        return takers

    def _network(self, tick: Tick) -> dict[int, int]:
        """Return the bytes that each process moved over TCP since the tick before."""
        bytes_by_process: dict[int, int] = defaultdict(int)
        for sample in tick.sockets:
            moved = (sample.sent_bytes or 0) + (sample.received_bytes or 0)
            grown = moved - self._socket_bytes.get(sample.socket, moved)
            self._socket_bytes[sample.socket] = moved
            owner = self._owner_of.get(self._inode_of.get(sample.socket, 0))
            if owner is not None and grown > 0:
                bytes_by_process[owner] += grown
        for identity in tick.sockets_ended:
            self._socket_bytes.pop(identity, None)
            inode = self._inode_of.pop(identity, None)
            if inode is not None:
                self._owner_of.pop(inode, None)
                self._port_of.pop(inode, None)
        return bytes_by_process


def _busy(tick: Tick, before: Tick) -> list[float]:
    """Return how busy each logical CPU was."""
    return [
        max(0.0, 1 - idle_of(grown) / sum(grown)) if sum(grown) > 0 else 0.0
        for grown in processor_growth(tick, before)
    ]


def _degrees(raw: int | None) -> float | None:
    return None if raw is None else raw / RAW_PER_DEGREE
