"""The few figures of ``dunmist line``: hottest sensor, how busy each CPU is, busiest program.

It runs for hours in a status bar, so it reads little: the totals of the CPUs, one line a process
over descriptors that stay open, and temperatures every few seconds.
"""

import os
from collections import Counter
from collections.abc import Iterator
from typing import NamedTuple

from dunmist.computer import ProcessorTimes, Root, Sensor, parse_stat, read_reading
from dunmist.computer.sensor_choice import sensor_choice
from dunmist.computer.sensors import read_sensors
from dunmist.errors import UnreadableComputer
from dunmist.sampling import SENSORS_S, Clock
from dunmist.sampling.deltas import ReadTime, cpu_counters, cpu_uses

# hwmon gives thousandths of a degree
RAW_PER_DEGREE = 1000.0
# beyond, descriptors are opened and closed each time
HELD_MOST = 400
STAT_BYTES = 512
# of the fields behind the name in proc_pid_stat(5): user and system time
USER, SYSTEM = 11, 12


class StatusLine(NamedTuple):
    """Fields of the status line; None if unreadable or nothing ran."""

    sensor: str | None
    celsius: float | None
    busy: list[float]  # of each logical CPU, 0 to 1
    program: str | None
    pid: int | None  # its busiest process
    cores: float


def status_lines(root: Root, clock: Clock, every_s: float) -> Iterator[StatusLine]:
    """Yield a line each ``every_s`` seconds, until the clock is stopped.

    Each is of the time since the one before. Raises UnreadableComputer where ``/proc/stat`` cannot
    be read.
    """
    sensors = [sensor for sensor in read_sensors(root) if sensor.quantity == "temperature"]
    processes = _Processes(root)
    counters, row = cpu_counters(), 0
    read_s = clock.monotonic_s()
    cpu_uses(counters, _times(root), ReadTime(row, read_s), 0.0)
    processes.grown_clk()
    hottest: tuple[Sensor, float] | None = None
    hottest_s = -SENSORS_S
    while clock.sleep_until(read_s + every_s):
        began_s, read_s = read_s, clock.monotonic_s()
        row += 1
        cpus = cpu_uses(counters, _times(root), ReadTime(row, read_s), read_s - began_s)
        if read_s - hottest_s >= SENSORS_S:
            hottest, hottest_s = _hottest(root, sensors), read_s
        name, pid, grown_clk = processes.busiest()
        ticks = os.sysconf("SC_CLK_TCK") * (read_s - began_s)
        yield StatusLine(
            sensor=hottest[0].label or hottest[0].chip if hottest else None,
            celsius=hottest[1] if hottest else None,
            busy=[round(cpu.busy, 3) for cpu in cpus.values()],
            program=name,
            pid=pid,
            cores=round(grown_clk / ticks, 3),
        )


def _times(root: Root) -> ProcessorTimes:
    times = root.parse("proc/stat", parse_stat, "processors")
    if times is None:
        raise UnreadableComputer(f"{root.full('proc/stat')}: cannot be read; is proc mounted?")
    return times


def _hottest(root: Root, sensors: list[Sensor]) -> tuple[Sensor, float] | None:
    read = [(sensor, read_reading(root, sensor)) for sensor in sensors]
    known = [(sensor, raw / RAW_PER_DEGREE) for sensor, raw in read if raw is not None]
    low, high = sensor_choice()["plausible"]["temperature"]
    plausible = [pair for pair in known if low <= pair[1] <= high]
    return max(plausible, key=lambda pair: pair[1], default=None)


class _Processes:
    """CPU time of all processes since the sample before."""

    def __init__(self, root: Root) -> None:
        self._root = root
        self._held: dict[str, int] = {}
        self._seen: dict[str, tuple[bytes, int]] = {}  # line and CPU time
        self._own = str(os.getpid())

    def busiest(self) -> tuple[str | None, int | None, int]:
        """Return the program with the greatest growth, its busiest process, clock ticks in all."""
        by_name: Counter[str] = Counter()
        most: dict[str, tuple[int, str]] = {}
        for pid, (name, grown) in self.grown_clk().items():
            by_name[name] += grown
            most[name] = max(most.get(name, (0, pid)), (grown, pid))
        for name, grown in by_name.most_common(1):
            if grown > 0:
                return name, int(most[name][1]), grown
        return None, None, 0

    def grown_clk(self) -> dict[str, tuple[str, int]]:
        """Return name and growth in clock ticks of each process that ran since it was seen."""
        grown, seen = {}, {}
        for pid in self._root.listing("proc"):
            if not pid.isdigit() or pid == self._own:
                continue
            line, before = self._line(pid), self._seen.get(pid)
            if before is not None and before[0] == line:
                # most processes sleep: their line is the same, and need not be read
                seen[pid] = before
                continue
            head, _, tail = line.rpartition(b") ")
            fields = tail.split(None, SYSTEM + 1)
            if len(fields) > SYSTEM:
                used_clk = int(fields[USER]) + int(fields[SYSTEM])
                seen[pid] = line, used_clk
                if before is not None and used_clk > before[1]:
                    name = head.partition(b"(")[2].decode(errors="replace")
                    grown[pid] = name, used_clk - before[1]
        for pid in self._held.keys() - seen.keys():
            os.close(self._held.pop(pid))
        self._seen = seen
        return grown

    def _line(self, pid: str) -> bytes:
        """Return the ``stat`` line of a process, empty when it has ended."""
        try:
            if pid in self._held:
                return os.pread(self._held[pid], STAT_BYTES, 0)
            if len(self._held) >= HELD_MOST:
                return self._root.read_start(f"proc/{pid}/stat", STAT_BYTES)
            self._held[pid] = self._root.open(f"proc/{pid}/stat")
            return os.pread(self._held[pid], STAT_BYTES, 0)
        except OSError:
            # it has ended, or its number was given to another process, which is new next time
            return b""
