"""Show the state of the computer on the live screen.

Follows the records of a run. The gauges have the resources, and each application has what it takes
now; what lasts is judged from a capture.
"""

from collections import deque
from collections.abc import Callable
from typing import NamedTuple

from dunmist.applications import Grouping, RunningLives, find_starters, last_starter
from dunmist.captures import Header
from dunmist.recorder.gauges import HISTORY, Gauge, Gauges, Name
from dunmist.recorder.latest_state import Known
from dunmist.recorder.socket_owners import SocketOwners
from dunmist.sampling import Event, ProcessLine, Record, SocketLine, Tick
from dunmist.sampling.deltas import NOTHING, Interval
from dunmist.thresholds import Thresholds

# programs that come and go within so many ticks belong to who starts them
LIVES_ROWS = 60


class LiveApplication:
    """One application: what it takes now, and its CPU time since it was first seen."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.cores = self.disk_bytes_per_s = self.network_bytes_per_s = 0.0
        self.memory_bytes = 0
        self.cpu_s = 0.0
        self.history: deque[float] = deque(maxlen=HISTORY)
        self.processes: list[LiveProcess] = []

    def take(
        self,
        part: "LiveProcess",
        span_s: float,
        disk_bytes_per_s: float,
        network_bytes_per_s: float,
    ) -> None:
        """Count one of its processes."""
        self.processes.append(part)
        self.cores += part.cores
        self.cpu_s += part.cores * span_s
        self.memory_bytes += part.memory_bytes
        self.disk_bytes_per_s += disk_bytes_per_s
        self.network_bytes_per_s += network_bytes_per_s


class LiveProcess(NamedTuple):
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
    """Follows a run; everything is of the interval that ended with the last tick.

    ``before`` is the same of the part of the run that ended where this one begins.
    """

    def __init__(
        self,
        header: Header,
        known: Callable[[], Known],
        limits: Thresholds,
        before: "Now | None" = None,
    ) -> None:
        self.cpus: list[float] = []  # how busy each is
        self.applications: dict[int, LiveApplication] = {}
        self._gauges = Gauges(header, limits, before.gauges if before else None)
        # each part of a run numbers its own applications
        self._earlier = {app.name: app for app in before.applications.values()} if before else {}
        self._header = header
        self._known = known
        self._grouping = Grouping(header.observer)
        self._owners = SocketOwners()
        self._waits_in: dict[int, str | None] = {}
        self._lives = RunningLives()

    @property
    def gauges(self) -> dict[Name, Gauge]:
        """The resources, in the order in which people read them."""
        return self._gauges.all

    @property
    def celsius(self) -> float | None:
        """The temperature of the CPU, None if no sensor tells."""
        return self._gauges.celsius

    @property
    def clock_hz(self) -> float | None:
        """The mean clock of all CPUs, None if it is not published."""
        return self._gauges.clock_hz

    def add(self, record: Record, interval: Interval | None) -> None:
        """Take one record into account, and the interval that ended with a tick."""
        self._lives.add(record)
        if isinstance(record, ProcessLine):
            self._grouping.add(record.id, record.facts)
        elif isinstance(record, SocketLine):
            self._owners.add(record)
        elif isinstance(record, Event):
            if record.facts is not None and record.processes:
                self._grouping.replace(record.processes[0], record.facts)
        elif isinstance(record, Tick):
            self._add_tick(record, interval)

    def _add_tick(self, tick: Tick, interval: Interval | None) -> None:
        for detail in tick.details:
            self._waits_in[detail.process] = detail.waits_in
        self._owners.read(tick)
        self._gauges.read(tick)
        if interval is not None:
            self.cpus = [cpu.busy for cpu in interval.cpus.values()]
            self._gauges.add(tick, interval, self._known())
            self.applications = self._taken(interval)
        self._owners.forget(tick)

    def _taken(self, interval: Interval) -> dict[int, LiveApplication]:
        """Return the usage of each application; exited ones are left out."""
        page_bytes, groups = self._header.machine.page_bytes, self._grouping.groups
        network, ports = self._owners.moved(interval), self._owners.ports()
        rows = self._lives.rows
        since_row = max(0, rows - LIVES_ROWS)
        starter_of = find_starters(self._grouping, self._lives, rows, since_row)
        applications: dict[int, LiveApplication] = {}
        for line, sample in self._known().states():
            number = self._grouping.application_of.get(line.id)
            if number is None or line.facts.kernel:
                continue
            number = last_starter(number, starter_of)
            application = applications.get(number)
            if application is None:
                application = applications[number] = LiveApplication(groups[number].name)
                name = groups[number].name
                if old := self.applications.get(number) or self._earlier.pop(name, None):
                    application.history, application.cpu_s = old.history, old.cpu_s
            facts, use = self._grouping.facts(line.id), interval.processes.get(line.id, NOTHING)
            part = LiveProcess(
                pid=facts.pid,
                user=facts.user or str(facts.uid),
                state=sample.state,
                waits_in=sample.waits_in or self._waits_in.get(line.id),
                cores=use.cores or 0.0,
                memory_bytes=max(0, sample.rss_pages - (sample.shared_pages or 0)) * page_bytes,
                unit=facts.cgroup,
                ports=tuple(sorted(ports.get(line.id, ()))),
            )
            application.take(part, interval.span_s, use.disk_bytes_per_s, network.get(line.id, 0.0))
        for application in applications.values():
            application.history.append(application.cores)
        return {
            number: application
            for number, application in applications.items()
            if not groups[number].samples(application.cores)
        }
