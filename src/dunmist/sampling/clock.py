"""The clocks that sampling is handed: clock_gettime(2).

Intervals come from the monotonic clock, which stands still while the computer sleeps; the
difference to the boot-time clock therefore shows a sleep. Dates come from the wall clock.
"""

import os
import select
import time
from datetime import datetime
from typing import Protocol


class Clock(Protocol):
    """Clock of the sampler; a test or a model computer passes its own.

    ``frame_early_s`` is None if time runs by itself. Where it comes in frames, as from a far
    computer, which are over once they were read, it is by how much one may come before its time.
    """

    frame_early_s: float | None

    def monotonic_s(self) -> float:
        """Return seconds that only go forward, without time asleep."""

    def boottime_s(self) -> float:
        """Return seconds that only go forward, time asleep included."""

    def now(self) -> datetime:
        """Return the date and time with its offset."""

    def sleep_until(self, monotonic_s: float) -> bool:
        """Wait for a time of the monotonic clock; return False when asked to stop."""


class SystemClock:
    """The running system's clocks. ``stop`` may be called from a signal handler."""

    frame_early_s: float | None = None

    def __init__(self) -> None:
        self._stopped, self._stopper = os.pipe()

    def monotonic_s(self) -> float:
        """Return CLOCK_MONOTONIC in seconds."""
        return time.monotonic()

    def boottime_s(self) -> float:
        """Return CLOCK_BOOTTIME in seconds."""
        return time.clock_gettime(time.CLOCK_BOOTTIME)

    def now(self) -> datetime:
        """Return the wall clock with the offset of the local time zone."""
        return datetime.now().astimezone()

    def sleep_until(self, monotonic_s: float) -> bool:
        """Wait for a time of the monotonic clock; return False once ``stop`` was called."""
        wait_s = max(0.0, monotonic_s - time.monotonic())
        stopped, _, _ = select.select([self._stopped], [], [], wait_s)
        return not stopped

    def stop(self) -> None:
        """End the current and every later wait at once."""
        os.write(self._stopper, b"!")
