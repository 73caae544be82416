"""Decide if two captures can be compared, and name the obstacle if not."""

from datetime import datetime
from typing import Literal, NamedTuple

from dunmist.compare.figures import Examined

Obstacle = Literal["other-computer", "too-short", "disturbed", "same-time", "too-few"]
# facts that two captures of one computer have in common
Match = Literal["both", "host", "hardware", "any"]


class Hindrance(NamedTuple):
    """Obstacle to a comparison, and the capture that has it: 0 before, 1 after, None both."""

    obstacle: Obstacle
    of: int | None = None


def hindrance(before: Examined, after: Examined, match: Match) -> Hindrance | None:
    """Return the first thing that is in the way, None if nothing is."""
    if identity(before, match) != identity(after, match):
        return Hindrance("other-computer")
    for index, exam in enumerate((before, after)):
        reason = shortcoming(exam)
        if reason is not None:
            return Hindrance(reason, index)
    if began(before) == began(after):
        return Hindrance("same-time")
    return None


def shortcoming(examined: Examined) -> Obstacle | None:
    """Return why a capture by itself tells too little, None if it does not."""
    line = examined.series.line
    if line.intervals < examined.limits.intervals_least:
        return "too-short"
    too_little = line.measured_s < examined.limits.sampled_least * line.duration_s
    return "disturbed" if too_little else None


def identity(examined: Examined, match: Match) -> tuple[object, ...]:
    """Return the identity of a computer: its name, and what it is made of."""
    machine = examined.series.header.machine
    hardware = (machine.model, len(machine.processors))
    return {
        "both": (machine.host, *hardware),
        "host": (machine.host,),
        "hardware": hardware,
        "any": (),
    }[match]


def began(examined: Examined) -> datetime:
    """Return when a capture began."""
    return datetime.fromisoformat(examined.series.header.started)
