"""What is not read at every tick, because it is dear or changes slowly.

A source is due when its seconds have passed, and always at the first and the last tick. Whatever
is not listed here is read at every tick.
"""

SECONDS_BETWEEN = {
    "sensors": 1.0,
    "graphics": 1.0,
    "slow sensors": 30.0,
    "interrupts": 10.0,
    "power supplies": 10.0,
    "all sockets": 10.0,
}
# a tick that comes a little early for a source still serves it
EARLY_SHARE = 0.25


class Cadence:
    """Remembers when each source was read last."""

    def __init__(self) -> None:
        self._read_s: dict[str, float] = {}

    def is_due(self, source: str, at_s: float, *, last: bool) -> bool:
        """Say whether a source is to be read at this moment, and count it as read if so."""
        before_s = self._read_s.get(source)
        waited = (1 - EARLY_SHARE) * SECONDS_BETWEEN[source]
        if before_s is not None and not last and at_s - before_s < waited:
            return False
        self._read_s[source] = at_s
        return True
