"""Network links over the intervals: what moved in each direction, errors, and how TCP fared."""

from dataclasses import dataclass

import numpy as np

from dunmist.computer import Link, LinkSample
from dunmist.series.rates import Floats, increments
from dunmist.series.sparse import Sparse

FIGURES = (
    "received_bytes", "received_packets", "receive_errors", "receive_drops", "sent_bytes",
    "sent_packets", "send_errors", "send_drops", "collisions",
)  # fmt: skip
BITS = 8.0


@dataclass(frozen=True, slots=True)
class LinkSeries:
    """One link. Rates are over intervals, ``errors`` and ``drops`` counts in each.

    ``used`` is the fuller direction's share of the link's speed, None where that is not known.
    """

    name: str
    about: Link | None
    received_bytes_per_s: Floats
    sent_bytes_per_s: Floats
    errors: Floats
    drops: Floats
    used: Floats | None

    @property
    def is_loopback(self) -> bool:
        """Whether it leads back to this computer."""
        return self.about.loopback if self.about else self.name == "lo"


def figures_of(sample: LinkSample) -> list[float]:
    """Return the counters in the order of ``FIGURES``."""
    return [getattr(sample, name) for name in FIGURES]


def link_series(counters: Sparse[str], links: list[Link], interval_s: Floats) -> list[LinkSeries]:
    """Return every link that was seen."""
    about = {link.name: link for link in links}
    return [
        _one(name, about.get(name), over, interval_s)
        for name, over in counters.over(len(interval_s) + 1).items()
    ]


def _one(name: str, about: Link | None, over: Floats, interval_s: Floats) -> LinkSeries:
    grown = dict(zip(FIGURES, increments(over).T, strict=True))
    received = grown["received_bytes"] / interval_s
    sent = grown["sent_bytes"] / interval_s
    speed = about.speed_bits_per_s if about else None
    return LinkSeries(
        name=name,
        about=about,
        received_bytes_per_s=received,
        sent_bytes_per_s=sent,
        errors=grown["receive_errors"] + grown["send_errors"] + grown["collisions"],
        drops=grown["receive_drops"] + grown["send_drops"],
        used=np.maximum(received, sent) * BITS / speed if speed else None,
    )
