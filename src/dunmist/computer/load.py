"""Parse load average, pressure-stall totals and uptime.

Sources: proc(5) on ``/proc/loadavg`` and ``/proc/uptime``; ``Documentation/accounting/psi.rst`` on
``/proc/pressure``, Linux 4.20 and newer. The load average is a damped count of runnable and
uninterruptible tasks, not a share of anything. Of stalls, ``some`` counts the time in which at
least one task waited for the resource, ``full`` that in which all were. Only the totals are
kept: the averages can be had from them, over any window.
"""

import re

import msgspec

from dunmist.computer.parsing import Counter, ParseError, count_of
from dunmist.computer.root import Root

_LOAD = re.compile(rb"(\d{1,9}\.\d+) (\d{1,9}\.\d+) (\d{1,9}\.\d+) (\d{1,9})/(\d{1,9})")
_UPTIME = re.compile(rb"(\d{1,12}\.\d+)(?:\s|$)")


class LoadAverage(msgspec.Struct, frozen=True, array_like=True):
    """Damped counts of tasks that run, wait for a CPU or wait in state D."""

    load_1: float  # over 1 minute, to e^-1
    load_5: float
    load_15: float
    runnable: int  # at the moment of reading
    tasks: int  # threads, not processes


def parse_loadavg(data: bytes) -> LoadAverage:
    """Return the record of ``/proc/loadavg``; raises ParseError."""
    match = _LOAD.match(data)
    if not match:
        raise ParseError("/proc/loadavg", "expected three averages and a task count", data)
    load_1, load_5, load_15, runnable, tasks = match.groups()
    return LoadAverage(float(load_1), float(load_5), float(load_15), int(runnable), int(tasks))


def parse_uptime(data: bytes) -> float:
    """Return seconds since boot, the time asleep included; raises ParseError."""
    match = _UPTIME.match(data)
    if not match:
        raise ParseError("/proc/uptime", "expected seconds since boot", data)
    return float(match[1])


RESOURCES = ("cpu", "memory", "io", "irq")
# cpu has no line "full" before Linux 5.13, irq no line "some"
_LINE = re.compile(rb"^(some|full) avg10=\S+ avg60=\S+ avg300=\S+ total=(\d{1,20})$", re.M)


class StallTotals(msgspec.Struct, frozen=True):
    """Microseconds since boot in which some or all tasks waited; None is not published."""

    some_us: Counter | None = None
    full_us: Counter | None = None


def parse_pressure(data: bytes) -> StallTotals:
    """Return the totals of one pressure file; raises ParseError."""
    totals = {
        text.decode(): count_of(total, "/proc/pressure") for text, total in _LINE.findall(data)
    }
    if not totals:
        raise ParseError("/proc/pressure", "expected a 'some' or 'full' line", data)
    return StallTotals(totals.get("some"), totals.get("full"))


def find_pressure(root: Root) -> list[str]:
    """Return the resources for which the kernel accounts stalls; notes when there are none."""
    # the files are there but cannot be opened where the kernel was started with psi=0
    published = set(root.names("proc/pressure"))
    pressure = [resource for resource in RESOURCES if resource in published]
    if not pressure:
        root.note("pressure-stall accounting", "absent")
    return pressure


def read_pressure(root: Root, resources: list[str]) -> dict[str, StallTotals]:
    """Return the stall totals of each resource that could be read."""
    totals = {}
    for resource in resources:
        stalls = root.parse(
            f"proc/pressure/{resource}", parse_pressure, "pressure-stall accounting", again=True
        )
        if stalls is not None:
            totals[resource] = stalls
    return totals
