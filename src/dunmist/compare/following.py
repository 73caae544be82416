"""Declare the figures that must follow a paused suspect, for each resource that reacts in seconds.

Never the suspect's own waiting: a paused task waits less itself, and would
seem to be the cause.
"""

from collections.abc import Collection
from typing import Literal, NamedTuple

from dunmist.diagnosis import ResourceWord
from dunmist.series import Application, Rate, Series

Following = Literal["waiting", "queue", "bytes", "pace"]
# low-priority work waits as a matter of course
GIVES_WAY = 0.5
# less than so many processors wanted by others is nobody who waits
WANTED_LEAST = 0.05
# of a link: others that move less than this share of it are nobody who waits
MOVED_LEAST = 0.05


class Followed(NamedTuple):
    """An amount, of which it is a share where ``of`` is given, ``floor`` being the least whole."""

    what: Following
    amount: Rate
    of: Rate | None = None
    floor: float = 0.0


def followed(
    series: Series, resource: ResourceWord, name: str | None, suspects: Collection[Application]
) -> Followed | None:
    """Return the figures that must follow; None if the disk or link is not seen.

    CPU: the share of the time that others want to run in which they wait. Disk: the requests in its
    queue. Link: what it carries, or the time that others take for a byte.
    """
    others = [
        application
        for application in series.applications
        if not (application.observer or application.kernel)
        and all(application is not suspect for suspect in suspects)
    ]
    if resource in ("cpu", "core"):
        ordinary = [other for other in others if other.low_priority < GIVES_WAY]
        waiting = Rate.total_of(series.line, [app.waiting for app in ordinary])
        ran = Rate.total_of(series.line, [app.cores for app in ordinary])
        return Followed("waiting", waiting, waiting + ran, WANTED_LEAST)
    if resource == "disk":
        disk = next((disk for disk in series.devices.disks if disk.name == name), None)
        return Followed("queue", disk.queue) if disk else None
    link = next((link for link in series.devices.links if link.name == name), None)
    if link is None:
        return None
    carried = link.sent_bytes_per_s
    if link.received_bytes_per_s.mean() > carried.mean():
        carried = link.received_bytes_per_s
    theirs = Rate.total_of(series.line, [other.network_bytes_per_s for other in others])
    if theirs.mean() < MOVED_LEAST * carried.mean():
        return Followed("bytes", carried)
    # a larger share of the line needs less time for a byte
    return Followed("pace", Rate.nothing(series.line) + 1.0, theirs, MOVED_LEAST * carried.mean())
