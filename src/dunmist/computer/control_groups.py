"""Control groups: CPU time under a quota, and the stalls of each group.

Sources: ``Documentation/admin-guide/cgroup-v2.rst`` (cpu.stat, cpu.max, *.pressure),
``Documentation/scheduler/sched-bwc.rst`` for version 1 (cpu.stat, cpu.cfs_quota_us), cgroups(7).
A group that reached its quota is *quota-limited*; heat has nothing to do with it.
"""

import re

import msgspec

from dunmist.computer.frozen_groups import FrozenGroup, read_frozen_groups
from dunmist.computer.group_paths import V2_ROOTS
from dunmist.computer.io_limits import IoLimit, read_io_limits
from dunmist.computer.load import parse_pressure
from dunmist.computer.memory_events import MemoryEvents, read_memory_events
from dunmist.computer.parsing import (
    Counter,
    ParseError,
    count_of,
    counter_of,
    parse_number,
    text_of,
)
from dunmist.computer.root import Root
from dunmist.computer.scheduling import Scheduling, read_scheduling
from dunmist.computer.task_limits import TaskLimit, read_task_limits

SUBJECT = "control groups"
# the two controllers are mounted together under either name
V1_CPU = ("sys/fs/cgroup/cpu", "sys/fs/cgroup/cpu,cpuacct")
STALLS = ("cpu", "memory", "io")
_STAT = re.compile(rb"^(\w{1,40}) (\d{1,20})$", re.M)


class GroupSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """One control group of version 1 or 2 at one tick."""

    path: str  # below the root of the hierarchy
    quota_cores: float | None  # cpu.max, or cfs_quota_us over cfs_period_us; None without a limit
    usage_us: Counter | None  # usage_usec of cpu.stat
    periods: Counter | None  # nr_periods: periods of the quota
    limited_periods: Counter | None  # nr_throttled: periods in which it ran out
    limited_us: Counter | None  # throttled_usec: time in which its tasks were not let run
    # total of "some" in its pressure files, by resource; empty in version 1
    stalls_us: dict[str, Counter]


def parse_cpu_stat(data: bytes) -> dict[str, int]:
    """Return the words of ``cpu.stat``; raises ParseError."""
    words = {text_of(word): count_of(value, "cpu.stat") for word, value in _STAT.findall(data)}
    if not words:
        raise ParseError("cpu.stat", "expected words with numbers", data)
    return words


def parse_cpu_max(data: bytes) -> float | None:
    """Return the quota of ``cpu.max`` in logical CPUs, None for 'max'; raises ParseError."""
    fields = data.split()
    if len(fields) != 2:
        raise ParseError("cpu.max", "expected quota and period", data)
    if fields[0] == b"max":
        return None
    quota = counter_of(fields[0], "cpu.max", "quota")
    return quota / max(counter_of(fields[1], "cpu.max", "period"), 1)


class ControlGroups:
    """Finds where groups are mounted below a root, and reads single ones."""

    def __init__(self, root: Root) -> None:
        self._root = root
        self._v2 = next(
            (directory for directory in V2_ROOTS if root.exists(f"{directory}/cgroup.controllers")),
            None,
        )
        self._v1 = next(
            (directory for directory in V1_CPU if root.exists(f"{directory}/cpu.shares")), None
        )
        if self._v2 is None and self._v1 is None:
            root.note(SUBJECT, "absent")

    def quota_cores(self, path: str) -> float | None:
        """Return the quota of a group in logical CPUs, None without a limit."""
        if self._v1 is not None:
            base = f"{self._v1}{path}"
            quota = self._number(f"{base}/cpu.cfs_quota_us")
            period = self._number(f"{base}/cpu.cfs_period_us")
            return quota / period if quota and quota > 0 and period else None
        quota_cores = self._root.parse(
            f"{self._v2}{path}/cpu.max", parse_cpu_max, SUBJECT, may_be_silent=True
        )
        return quota_cores

    def memory_events(self, paths: set[str]) -> list[MemoryEvents]:
        """Return the out-of-memory kills in groups; version 1 does not count them."""
        return read_memory_events(self._root, self._v2, paths) if self._v2 else []

    def frozen(self, paths: set[str]) -> list[FrozenGroup]:
        """Return the groups of which no task may run; version 1 shows that in another way."""
        return read_frozen_groups(self._root, self._v2, paths) if self._v2 else []

    def task_limits(self, paths: set[str]) -> list[TaskLimit]:
        """Return the groups that are close to their limit of tasks; of version 2 only."""
        return read_task_limits(self._root, self._v2, paths) if self._v2 else []

    def io_limits(self, paths: set[str]) -> list[IoLimit]:
        """Return the limits of disk I/O of groups; of version 2 only."""
        return read_io_limits(self._root, self._v2, paths) if self._v2 else []

    def scheduling(self, paths: list[str]) -> Scheduling:
        """Return the scheduling of groups among one another."""
        version = 1 if self._v1 is not None else 2
        return read_scheduling(self._root, self._v1 or self._v2, paths, version=version)

    def read(self, path: str, quota_cores: float | None) -> GroupSample | None:
        """Return one group's counters, None when it is gone."""
        base = f"{self._v1 or self._v2}{path}"
        words = self._root.parse(f"{base}/cpu.stat", parse_cpu_stat, SUBJECT, may_be_silent=True)
        if words is None:
            return None
        limited = words.get("throttled_usec")
        # version 1 counts nanoseconds, version 2 microseconds
        if limited is None and "throttled_time" in words:
            limited = words["throttled_time"] // 1000
        return GroupSample(
            path,
            quota_cores,
            words.get("usage_usec"),
            words.get("nr_periods"),
            words.get("nr_throttled"),
            limited,
            self._stalls(path),
        )

    def _stalls(self, path: str) -> dict[str, int]:
        stalls: dict[str, int] = {}
        if self._v2 is None:
            return stalls
        for resource in STALLS:
            totals = self._root.parse(
                f"{self._v2}{path}/{resource}.pressure", parse_pressure, SUBJECT, may_be_silent=True
            )
            if totals and totals.some_us is not None:
                stalls[resource] = totals.some_us
        return stalls

    def _number(self, name: str) -> int | None:
        return self._root.parse(name, parse_number, SUBJECT, may_be_silent=True)
