"""The ring: segments of a run below the state directory, each a whole capture, the oldest going.

Bounded by time and by bytes, and never into the last tenth of a file system. A disk that is full or
read-only is no reason to die: nothing is written until it can be again, and that is said.
"""

import logging
import os
import re
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from datetime import datetime, timedelta
from pathlib import Path
from typing import NamedTuple

import msgspec

from dunmist.captures import CaptureReader, CaptureWriter, Footer, Header, Recording, Rules
from dunmist.errors import CaptureError, OutputError
from dunmist.recorder.extraction import moved
from dunmist.recorder.latest_state import Known
from dunmist.sampling import Event, ProcessLine, Record, SocketLine, Survey, Tick

# the most that is lost when the oldest segment goes
SEGMENT_S = 300.0
# of a file system, and how long to wait before looking again
LEFT_FREE, AGAIN_S = 0.1, 30.0
NAME = re.compile(r"segment-(\d{6,9})\.jsonl\.gz")
MODE = 0o700
_LOG = logging.getLogger(__name__)


class Segment(NamedTuple):
    """One segment on disk, by its number."""

    number: int
    path: Path
    bytes: int


class Limits(NamedTuple):
    """Size of the ring: seconds, and bytes, incidents included."""

    keep_s: float
    most_bytes: int


def read_segments(folder: Path) -> list[Segment]:
    """Return the segments of a folder, the oldest first."""
    segments = []
    with suppress(FileNotFoundError):
        for entry in os.scandir(folder):
            match = NAME.fullmatch(entry.name)
            if match and entry.is_file(follow_symlinks=False):
                segments.append(Segment(int(match[1]), folder / entry.name, entry.stat().st_size))
    return sorted(segments)


class Ring:
    """The ring of one run; ``add`` takes its records, and ``close`` ends its segment."""

    def __init__(
        self,
        folder: Path,
        header: Header,
        limits: Limits,
        rules: Rules,
        incident_bytes: Callable[[], int] = lambda: 0,
    ) -> None:
        self._folder = folder
        self._incident_bytes = incident_bytes
        self._header = header
        self._limits = limits
        self._rules = rules
        self._known = Known()
        self._writer: CaptureWriter | None = None
        self._first: Tick | None = None
        self._old_threads: frozenset[tuple[int, int]] = frozenset()
        self._pending: list[ProcessLine | SocketLine | Event] = []
        self._ticks = 0
        self._again_s = 0.0
        self._written: dict[int, float] = {}
        self.trouble: str | None = None

    @property
    def known(self) -> Known:
        """Latest state of the computer."""
        return self._known

    @property
    def first_tick(self) -> int | None:
        """The number of the tick that began the segment; None while nothing is written."""
        return None if self._first is None else self._first.n

    @property
    def run(self) -> str:
        """Identity of this run."""
        return f"{self._header.machine.boot_id}/{self._header.started}"

    @property
    def segments(self) -> list[Path]:
        """The segments of all runs, the oldest first."""
        return [segment.path for segment in read_segments(self._folder)]

    def add(self, record: Record, now: datetime) -> None:
        """Take one record; ``now`` is the wall clock at its tick."""
        self._known.add(record)
        if isinstance(record, ProcessLine | SocketLine | Event):
            self._pending.append(record)
            return
        try:
            if isinstance(record, Survey):
                if self._writer and self._first:
                    tick = record.tick - self._first.n
                    self._writer.write(msgspec.structs.replace(record, tick=tick))
                return
            if self._first and record.at_s - self._first.at_s >= SEGMENT_S:
                self._finish(now)
            if self._writer is None:
                self._begin(record, now)
            else:
                self._go_on(record)
        except OutputError as error:
            self._give_up(str(error))
        self._pending.clear()

    def close(self, now: datetime) -> None:
        """End the segment, so that it is whole."""
        with suppress(OutputError):
            self._finish(now)

    def _begin(self, tick: Tick, now: datetime) -> None:
        if time.monotonic() < self._again_s:
            return
        self._folder.mkdir(parents=True, exist_ok=True, mode=MODE)
        self._make_room()
        before = read_segments(self._folder)
        number = before[-1].number + 1 if before else 1
        header = msgspec.structs.replace(
            self._header,
            started=now.isoformat(timespec="milliseconds"),
            recording=Recording(self.run, tick.at_s, tick.n),
        )
        path = self._folder / f"segment-{number:06}.jsonl.gz"
        self._writer, self._first, self._ticks = CaptureWriter(path, rules=self._rules), tick, 1
        self._writer.write(header)
        self._known.drop_old_threads(self._old_threads)
        self._old_threads = self._known.threads
        for line in self._known.beginning(tick):
            self._writer.write(line)
        # a name is on the disk only once its directory is
        _sync_directory(self._folder)
        if self.trouble:
            _LOG.warning("recording again")
            self.trouble = None

    def _go_on(self, tick: Tick) -> None:
        assert self._writer is not None
        assert self._first is not None
        for line in self._pending:
            self._writer.write(msgspec.structs.replace(line, tick=tick.n - self._first.n))
        self._writer.write(moved(tick, self._first))
        self._old_threads -= {(thread.process, thread.tid) for thread in tick.threads}
        self._ticks += 1

    def _finish(self, now: datetime) -> None:
        writer, self._writer, self._first = self._writer, None, None
        if writer is None:
            return
        with writer:
            writer.write(
                Footer(
                    ended=now.isoformat(timespec="milliseconds"),
                    ticks=self._ticks,
                    missed=0,
                    ended_early=False,
                )
            )
        self._make_room()

    def _give_up(self, why: str) -> None:
        """Go on without writing, and try again after a while."""
        writer, self._writer, self._first = self._writer, None, None
        if writer is not None:
            with suppress(OutputError), writer:
                pass
        self._again_s = time.monotonic() + AGAIN_S
        if self.trouble is None:
            _LOG.warning("%s; nothing is recorded until it can be again", why)
        self.trouble = why

    def _make_room(self) -> None:
        """Take away the oldest; raises OutputError where even that leaves too little room."""
        segments = read_segments(self._folder)
        kept_bytes = self._incident_bytes()
        keep = int(self._limits.keep_s // SEGMENT_S) + 1
        for index, segment in enumerate(reversed(segments)):
            kept_bytes += segment.bytes
            if index >= keep or kept_bytes > self._limits.most_bytes:
                segment.path.unlink(missing_ok=True)
        left = read_segments(self._folder)
        while is_nearly_full(self._folder) and left:
            left.pop(0).path.unlink(missing_ok=True)
        check_room(self._folder)


def cut_off_run(segments: list[Path]) -> Path | None:
    """Return the last segment where its run was cut off: a freeze, a power cut, or a kill."""
    for path in reversed(segments):
        try:
            with CaptureReader(path) as reader:
                for _ in reader.lines():
                    pass
                return None if reader.complete else path
        except CaptureError:
            continue  # not even a tick of it reached the disk
    return None


def run_of(path: Path) -> tuple[str, datetime] | None:
    """Return the run of a segment and its begin; None if it cannot be read."""
    try:
        with CaptureReader(path) as reader:
            recording = reader.header.recording
            began = datetime.fromisoformat(reader.header.started)
            return (recording.run if recording else "", began)
    except CaptureError:
        return None


def of_the_run(segments: list[Path], since: datetime) -> Iterator[Path]:
    """Yield the segments of the run that was recorded at a time, or of the one after it."""
    known = [(path, run_id) for path in segments if (run_id := run_of(path))]
    reach = timedelta(seconds=SEGMENT_S)
    runs = [run for _, (run, began) in known if began + reach >= since]
    for path, (run, _) in known:
        if runs and run == runs[0]:
            yield path


def is_nearly_full(folder: Path) -> bool:
    """Whether a file system has less than a tenth left."""
    room = os.statvfs(folder)
    return room.f_bavail < LEFT_FREE * room.f_blocks


def check_room(folder: Path) -> None:
    """Raise OutputError where nothing more may be written to a file system."""
    if is_nearly_full(folder):
        raise OutputError(f"{folder}: its file system has less than a tenth left; make room")


def _sync_directory(folder: Path) -> None:
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
