"""Load average and uptime: proc(5), ``/proc/loadavg`` and ``/proc/uptime``.

The load average is a damped count of runnable and uninterruptible tasks, not a share of anything.
"""

import re

import msgspec

from dunmist.computer.parsing import ParseError

_LOAD = re.compile(rb"(\d{1,9}\.\d+) (\d{1,9}\.\d+) (\d{1,9}\.\d+) (\d{1,9})/(\d{1,9})")
_UPTIME = re.compile(rb"(\d{1,12}\.\d+)(?:\s|$)")


class LoadAverage(msgspec.Struct, frozen=True, array_like=True):
    """Damped counts over 1, 5 and 15 minutes, tasks runnable now, and tasks in all."""

    one: float
    five: float
    fifteen: float
    runnable: int
    tasks: int


def parse_loadavg(data: bytes) -> LoadAverage:
    """Return the record of ``/proc/loadavg``; raises ParseError."""
    match = _LOAD.match(data)
    if not match:
        raise ParseError("/proc/loadavg", "expected three averages and a task count", data)
    one, five, fifteen, runnable, tasks = match.groups()
    return LoadAverage(float(one), float(five), float(fifteen), int(runnable), int(tasks))


def parse_uptime(data: bytes) -> float:
    """Return seconds since boot, the time asleep included; raises ParseError."""
    match = _UPTIME.match(data)
    if not match:
        raise ParseError("/proc/uptime", "expected seconds since boot", data)
    return float(match[1])
