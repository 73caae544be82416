"""Pressure-stall accounting: ``Documentation/accounting/psi.rst``, Linux 4.20 and newer.

``some`` counts the time in which at least one task was held up for the resource, ``full`` that in
which all were. Only the totals are kept: the averages can be had from them, over any stretch.
"""

import re

import msgspec

from dunmist.computer.parsing import ParseError
from dunmist.computer.root import Root

RESOURCES = ("cpu", "memory", "io", "irq")
_LINE = re.compile(rb"^(some|full) avg10=\S+ avg60=\S+ avg300=\S+ total=(\d{1,20})$", re.M)


class StallTotals(msgspec.Struct, frozen=True):
    """Microseconds since boot in which some or all tasks were held up; None is not published."""

    some_us: int | None = None
    full_us: int | None = None


def parse_pressure(data: bytes) -> StallTotals:
    """Return the totals of one pressure file; raises ParseError."""
    totals = {text.decode(): int(total) for text, total in _LINE.findall(data)}
    if not totals:
        raise ParseError("/proc/pressure", "expected a 'some' or 'full' line", data)
    return StallTotals(totals.get("some"), totals.get("full"))


def find_pressure(root: Root) -> list[str]:
    """Return the resources for which the kernel accounts stalls; notes when there are none."""
    published = set(root.names("proc/pressure"))
    found = [resource for resource in RESOURCES if resource in published]
    if not found:
        root.note("pressure-stall accounting", "absent")
    return found


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
