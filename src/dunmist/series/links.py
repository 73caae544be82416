"""Network links over the ticks: what each moved, how full it was, what waited to be sent."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from dunmist.computer import Link, RadioLink
from dunmist.sampling import SENSORS_S
from dunmist.series.conservation import Impossible
from dunmist.series.counters import Track
from dunmist.series.timeline import Level, Rate

BITS = 8.0
# frames are not counted: bytes tell the use, errors and drops the trouble
LINK_COUNTERS = (
    "received_bytes",
    "receive_errors",
    "receive_drops",
    "sent_bytes",
    "send_errors",
    "send_drops",
    "collisions",
)


@dataclass(frozen=True, slots=True)
class LinkSeries:
    """One network link over time."""

    name: str
    about: Link | None
    received_bytes_per_s: Rate
    sent_bytes_per_s: Rate
    errors_per_s: Rate  # frames
    drops_per_s: Rate
    used: Rate | None  # fuller direction's share of the speed; None if the speed is unknown
    waiting_bytes: Level | None = None  # in its queue; None if no queue can be seen
    queue_drops: int = 0  # over the capture
    # since the driver made the link, None if it is not counted
    moved_bytes: float | None = None
    failed_frames: float | None = None

    @property
    def is_loopback(self) -> bool:
        """Whether it leads back to this computer."""
        return self.about.loopback if self.about else self.name == "lo"


def link_series(
    name: str, about: Link | None, track: Track, queue: Track | None, impossible: Impossible
) -> LinkSeries:
    """Return one link of its counters and of its queue, where that can be seen."""
    received, sent = track.rate("received_bytes"), track.rate("sent_bytes")
    speed = about.speed_bits_per_s if about else None
    fuller = Rate(track.line, np.maximum(received.values, sent.values))
    return LinkSeries(
        name=name,
        about=about,
        received_bytes_per_s=received,
        sent_bytes_per_s=sent,
        errors_per_s=track.rate("receive_errors")
        + track.rate("send_errors")
        + track.rate("collisions"),
        drops_per_s=track.rate("receive_drops") + track.rate("send_drops"),
        used=impossible.share("use of links", fuller * BITS / speed) if speed else None,
        waiting_bytes=queue.level("waiting_bytes") if queue else None,
        queue_drops=round(queue.rate("drops", read_every_s=SENSORS_S).total()) if queue else 0,
        moved_bytes=track.total("received_bytes", "sent_bytes"),
        failed_frames=track.total("receive_errors", "send_errors", "collisions"),
    )


def signal_dbm(link: LinkSeries, radio: Mapping[str, RadioLink]) -> int | None:
    """Return the signal of a wireless link: by its radio, else as the link publishes it."""
    station = radio.get(link.name)
    if station is not None and station.signal_dbm:
        return station.signal_dbm
    return link.about.signal_dbm if link.about else None
