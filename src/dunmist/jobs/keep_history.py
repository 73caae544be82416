"""Adds to the history of this computer: what a recorder records, and live captures.

Only the recorder makes a history. What cannot be added now is kept and tried again; the recorder
goes on whatever happens to its history.
"""

import logging
from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime
from pathlib import Path

from dunmist.captures import CaptureReader, Header
from dunmist.computer import Root, read_boot, read_changes
from dunmist.errors import CaptureError, HistoryError, SettingsError
from dunmist.history import (
    Damaged,
    Event,
    History,
    Piece,
    Summing,
    Wall,
    events_of,
    identity_of,
    open_history,
    put_aside,
    wall_of,
)
from dunmist.jobs.recorder_lock import is_recorded
from dunmist.jobs.settings import history_path, keeps_history, thresholds_path
from dunmist.recorder import Known, Ring
from dunmist.sampling import Record, Survey, Tick
from dunmist.sampling.deltas import Deltas, Interval
from dunmist.thresholds import Thresholds, load_thresholds

_LOG = logging.getLogger(__name__)
# a day of segments waits at most while nothing can be added
WAITING_MOST = 288
# how often old hours are made days, and what changed is asked for
DAILY_S = 86_400.0
# by then the computer has started
FIRST_S = 300.0


class HistoryKeeper:
    """Keeps the history of a recorder's run; a piece of it for each segment of the ring."""

    def __init__(self, path: Path, header: Header, ring: Ring, limits: Thresholds) -> None:
        self._path, self._header, self._ring = path, header, ring
        self._summing = Summing(header, lambda: ring.known, limits)
        self._computer = identity_of(header.machine)
        self._trouble = ""
        self._history = self._opened()
        self._waiting: list[Piece] = []
        self._first: int | None = None
        self._began: Wall | None = None
        self._last: Wall | None = None
        self._daily_s: float | None = None

    def recover(self, segments: Sequence[Path], limits: Thresholds) -> None:
        """Add what an earlier run recorded and could not add any more."""
        for path in segments:
            with suppress(CaptureError):
                with CaptureReader(path) as reader:
                    identity = _identity(reader.header)
                if not self._has(identity):
                    self._add(summed(path, limits))

    def add(self, record: Record, interval: Interval | None, now: datetime) -> None:
        """Take a record that the ring has taken, and the interval that ended with a tick."""
        wall = wall_of(now)
        if isinstance(record, Tick):
            if self._ring.first_tick != self._first or self._began is None:
                self._store()
                self._first, self._began = self._ring.first_tick, wall
            self._last = wall
        self._summing.add(record, interval, wall)

    def add_events(self, events: Sequence[Event]) -> None:
        """Add things that happened."""
        if self._history is not None:
            try:
                self._history.add_events(events)
            except HistoryError as error:
                self._say(str(error))

    def daily(self, root: Root, at_s: float) -> None:
        """Once a day make days of old hours, and add how the start was and what changed."""
        due_s = FIRST_S if self._daily_s is None else self._daily_s + DAILY_S
        if self._began is None or at_s < due_s:
            return
        self._daily_s = at_s
        seen = Survey(
            tick=0,
            is_last=True,
            boot=read_boot(root),
            changes=read_changes(root, self._began.at_s, None),
        )
        self.add_events(events_of(seen, self._header.machine))
        if self._history is not None:
            try:
                self._history.make_room()
            except HistoryError as error:
                self._say(str(error))

    def close(self) -> None:
        """Add the rest."""
        self._store()
        if self._history is not None:
            with self._history:
                self._history = None

    def _has(self, identity: str) -> bool:
        try:
            return self._history is None or self._history.has(identity)
        except Damaged as error:
            self._say(f"{error}; a new one is begun")
            self._restart()
            return self._history is None
        except HistoryError as error:
            self._say(str(error))
            return True

    def _store(self) -> None:
        if self._began is None or self._last is None:
            return
        periods, events = self._summing.take()
        began_s, ended_s = self._began.at_s, self._last.at_s
        # ticks without room in the ring belong to no segment
        number = self._first if self._first is not None else f"{began_s:.3f}"
        identity = f"{self._ring.run}/{number}"
        self._add(Piece(identity, began_s, ended_s, periods, events))

    def _add(self, piece: Piece) -> None:
        self._waiting = [*self._waiting, piece][-WAITING_MOST:]
        if self._history is None:
            self._history = self._opened()
        while self._waiting and self._history is not None:
            try:
                self._history.add(self._waiting[0], self._computer, also_overlapping=True)
            except Damaged as error:
                self._say(f"{error}; a new one is begun")
                self._restart()
            except HistoryError as error:
                self._say(str(error))
                return
            else:
                del self._waiting[0]
                self._trouble = ""

    def _restart(self) -> None:
        """Put a damaged history aside and begin another one."""
        if self._history is not None:
            with self._history:
                self._history = None
        try:
            put_aside(self._path)
        except HistoryError as error:
            self._say(str(error))
        else:
            self._history = self._opened()

    def _opened(self) -> History | None:
        try:
            return open_history(self._path, create=True)
        except Damaged as error:
            _LOG.warning("%s; it is put aside and a new one is begun", error)
            try:
                put_aside(self._path)
                return open_history(self._path, create=True)
            except HistoryError as again:
                self._say(str(again))
        except HistoryError as error:
            self._say(str(error))
        return None

    def _say(self, trouble: str) -> None:
        """Say once what is wrong, until it is something else."""
        if trouble != self._trouble:
            _LOG.warning("%s; it records without a history", trouble)
        self._trouble = trouble


def keeper_for(header: Header, ring: Ring, limits: Thresholds) -> HistoryKeeper | None:
    """Return the writer of a recorder's history, None if it is switched off."""
    try:
        wanted = keeps_history()
    except SettingsError as error:
        _LOG.warning("%s; no history is kept", error)
        return None
    return HistoryKeeper(history_path(), header, ring, limits) if wanted else None


def add_capture(path: Path) -> bool:
    """Add a live capture of this computer to its history, where there is one.

    Says in a line why it could not. A recorder that runs has that time already.
    """
    try:
        if not keeps_history() or is_recorded():
            return False
        history = open_history(history_path())
        if history is None:
            return False
        with history, CaptureReader(path) as reader:
            header = reader.header
            is_own = header.live and not header.by_shell
            if not is_own or history.has(_identity(header)):
                return False
            computer = identity_of(header.machine)
            if history.identity() not in (None, computer.text):
                _LOG.warning("%s: is of another computer; nothing was added", history.path)
                return False
            return history.add(summed(path, load_thresholds(thresholds_path())), computer)
    except (HistoryError, SettingsError, CaptureError) as error:
        _LOG.warning("%s; the capture itself is kept", error)
        return False


def summed(path: Path, limits: Thresholds) -> Piece:
    """Return the sums that a capture or a segment adds to the history; raises CaptureError."""
    with CaptureReader(path) as reader:
        header = reader.header
        began = datetime.fromisoformat(header.started)
        begin = wall_of(began)
        known, deltas = Known(), Deltas(header.machine)
        summing = Summing(header, lambda: known, limits)
        wall = begin
        for line in reader.lines():
            if isinstance(line, Header) or not isinstance(line, Record):
                continue
            known.add(line)
            if isinstance(line, Tick):
                wall = Wall(begin.at_s + line.at_s, begin.offset_s)
            summing.add(line, deltas.add(line), wall)
    periods, events = summing.take()
    return Piece(_identity(header), begin.at_s, wall.at_s, periods, events)


def _identity(header: Header) -> str:
    recording = header.recording
    if recording is not None:
        return f"{recording.run}/{recording.first_tick}"
    return f"{header.machine.boot_id}/{header.started}"
