"""A network link with a capacity in each direction."""

from dataclasses import dataclass, field

from dunmist.simulation.scenario import LinkSpec

BYTES_PER_MBIT = 125_000
GOOD_SHARE = 0.95  # headers take the rest
PACKET_BYTES = 1400
BACKGROUND_BYTES_PER_S = 400.0


@dataclass(slots=True)
class Link:
    """One link and its counters."""

    spec: LinkSpec
    moved: dict[str, float] = field(default_factory=lambda: {"sent": 4e6, "received": 51e6})
    errors: float = 0.0
    retransmitted: float = 0.0
    segments: float = 0.0

    def step(self, direction: str, wanted: float, step_s: float) -> float:
        """Move bytes a second in one direction; return the share of the wanted that got through."""
        capacity = (self.spec.mbit_per_s or 100) * BYTES_PER_MBIT * GOOD_SHARE
        served = 1.0 if wanted <= capacity else capacity / wanted
        carried = wanted * served + BACKGROUND_BYTES_PER_S
        self.moved[direction] += carried * step_s
        packets = carried * step_s / PACKET_BYTES
        self.segments += packets
        self.retransmitted += packets * (0.02 if served < 1 else 0.0)
        if direction == "received":
            self.errors += self.spec.errors_per_s * step_s
            self.retransmitted += self.spec.errors_per_s * 2 * step_s
        return served
