"""Run the sampler on the remote computer's own time.

Waiting means taking the next frames, however late a slow connection delivers them. So the pace, and
with it every rate, follows the remote clock.
"""

import re
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta, timezone

from dunmist.remote.frame_stream import Begun, Frame, Garbled
from dunmist.remote.memory_root import TooMuch
from dunmist.remote.mirror import Mirror

# a frame that comes this share of an interval before its time is the one that was waited for
EARLY_SHARE = 0.25
# in the year 9999, far enough from its end for every zone
DATE_MOST_S = 253_400_000_000.0


class RemoteClock:
    """Time of a remote computer in seconds since its first frame.

    ``trouble`` says what ended the frames early, None if nothing did.
    """

    def __init__(
        self, begun: Begun, frames: Iterator[Frame], mirror: Mirror, stop: Callable[[], None]
    ) -> None:
        self._begun, self._frames, self._mirror = begun, frames, mirror
        self._stop = stop
        self._first_s: float | None = None
        self.frame_early_s: float | None = EARLY_SHARE * begun.every_s
        self._at_s = 0.0
        self.trouble: str | None = None

    def begin(self) -> bool:
        """Show the first frame; return whether there was one."""
        return self._advance()

    def stop(self) -> None:
        """End what comes."""
        self._stop()

    def monotonic_s(self) -> float:
        """Return seconds since the first frame, by the remote computer's own clock."""
        return self._at_s

    def boottime_s(self) -> float:
        """Return the same: its uptime counts sleep, and nothing else is sent."""
        return self._at_s

    def now(self) -> datetime:
        """Return the date and time over there."""
        at_s = min(self._begun.started_s + self._at_s, DATE_MOST_S)
        return datetime.fromtimestamp(at_s, _zone(self._begun.zone))

    def sleep_until(self, monotonic_s: float) -> bool:
        """Take frames up to a time; return False when no more came."""
        while self._at_s < monotonic_s - (self.frame_early_s or 0.0):
            if not self._advance():
                return False
        return True

    def _advance(self) -> bool:
        try:
            frame = next(self._frames, None)
            if frame is None:
                return False
            self._mirror.show(frame)
        except (Garbled, TooMuch) as error:
            self.trouble = str(error)  # the frames before are good
            return False
        if self._first_s is None:
            self._first_s = frame.at_s
        self._at_s = max(self._at_s, frame.at_s - self._first_s)
        return True


def _zone(text: str) -> timezone:
    """Return the zone of date(1)'s ``%z``, UTC where it is none."""
    sign, digits = text[:1], text[1:]
    is_zone = re.fullmatch(r"[+-](?:[01]\d|2[0-3])[0-5]\d", text, re.ASCII)
    if not is_zone:
        return UTC
    offset = timedelta(hours=int(digits[:2]), minutes=int(digits[2:]))
    return timezone(offset if sign == "+" else -offset)
