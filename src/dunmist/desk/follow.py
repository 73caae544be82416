"""Follow a capture that is still being written: its records as they come, and what they come to.

A thread of its own reads, so that a slow disk keeps no key from being answered.
"""

import math
import threading
import time
from collections.abc import Callable
from pathlib import Path

from dunmist.captures import CaptureReader, Footer, Header
from dunmist.errors import CaptureError
from dunmist.plain_files import open_plain
from dunmist.recorder import Known, Now
from dunmist.sampling import Tick
from dunmist.sampling.deltas import Deltas
from dunmist.thresholds import Thresholds

LOOK_AGAIN_S = 0.1


class FollowedFile:
    """A file whose end is waited for until it is said that no more comes."""

    def __init__(self, path: Path, is_growing: Callable[[], bool]) -> None:
        self._path, self._is_growing = path, is_growing
        self._file = None if not path.exists() else open_plain(path)

    def read(self, size: int, /) -> bytes:
        """Return some bytes, nothing at the end."""
        while True:
            # before reading: what came in between is read the next time
            growing = self._is_growing()
            if self._file is None and self._path.exists():
                self._file = open_plain(self._path)
            data = self._file.read(size) if self._file else b""
            if data or not growing:
                return data
            time.sleep(LOOK_AGAIN_S)

    def close(self) -> None:
        """Close the file."""
        if self._file is not None:
            self._file.close()


class Follower:
    """Reads a capture up to a time, or as it grows; ``now`` is of the newest tick.

    ``before`` is what was known at the end of the capture that this one goes on from.
    """

    def __init__(
        self,
        path: Path,
        limits: Thresholds,
        is_growing: Callable[[], bool],
        until_s: float | None = None,
        before: Now | None = None,
    ) -> None:
        self.path = path
        self.header: Header | None = None
        self.now: Now | None = None
        self.at_s = 0.0
        self.ticks = 0
        self.is_over = False
        self.trouble: str | None = None
        self._limits, self._is_growing = limits, is_growing
        self._before = before
        self._until_s = math.inf if until_s is None else until_s
        self._stopped = threading.Event()
        self._lock = threading.Lock()
        self._thread = threading.Thread(target=self._read, daemon=True)
        self._thread.start()

    def stop(self) -> None:
        """Read no more."""
        self._stopped.set()

    def latest(self) -> tuple[Now | None, float]:
        """Return the latest state and its time in seconds after the first tick."""
        with self._lock:
            return self.now, self.at_s

    def _read(self) -> None:
        growing = FollowedFile(self.path, lambda: not self._stopped.is_set() and self._is_growing())
        try:
            with CaptureReader(self.path, growing) as reader:
                self._take(reader)
        except (CaptureError, OSError) as error:
            # a capture that was ended before its first tick is no trouble
            self.trouble = None if self._stopped.is_set() else str(error)
        self.is_over = True

    def _take(self, reader: CaptureReader) -> None:
        self.header = reader.header
        known, deltas = Known(), Deltas(reader.header.machine)
        now = Now(reader.header, lambda: known, self._limits, self._before)
        for record in reader.lines():
            if self._stopped.is_set():
                return
            if isinstance(record, Footer):
                return
            if isinstance(record, Header):
                continue
            if isinstance(record, Tick) and record.at_s > self._until_s:
                return
            with self._lock:
                known.add(record)
                interval = deltas.add(record)
                now.add(record, interval)
                if isinstance(record, Tick):
                    self.ticks += 1
                    self.at_s = record.at_s
                    if interval is not None:
                        self.now = now
