"""How long and how often to sample."""

import math

import msgspec


class Plan(msgspec.Struct, frozen=True):
    """Ticks lie ``every_s`` apart from 0 to ``duration_s``, both ends included."""

    duration_s: float
    every_s: float

    @property
    def intervals(self) -> int:
        """Number of whole intervals, one less than the ticks."""
        return math.floor(self.duration_s / self.every_s + 1e-9)
