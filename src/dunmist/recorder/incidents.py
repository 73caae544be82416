"""Incidents: what is kept apart from the ring, from some time before it began to after it ended.

A rule that holds, or a person who says so, opens one; while it is open whatever else holds belongs
to it, so that a storm makes one incident. What it was is judged afterwards, by another process.
"""

import logging
import os
import re
from collections import Counter
from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import Literal, NamedTuple

import msgspec

from dunmist.captures import IncidentMark
from dunmist.errors import CaptureError, OutputError
from dunmist.recorder.extraction import TimeWindow, cut
from dunmist.recorder.marks import Mark
from dunmist.recorder.ring import Ring, check_room
from dunmist.recorder.rules import Rule

# how long nothing must hold until it is over, how long it may last, and what is kept around it
QUIET_S, MOST_S, BEFORE_S, AFTER_S = 15.0, 300.0, 120.0, 10.0
# so many are kept, and besides them so many that only somebody's mark set off
KEPT_MOST, MARKED_MAX = 100, 30
# of all bytes that a recorder may take
INCIDENT_SHARE = 0.5
NAME = re.compile(r"incident-(\d{3,6})\.json")
# an incident holds command lines
MODE = 0o700
MARKED, CUT_OFF = "marked", "cut-off"
_LOG = logging.getLogger(__name__)


class Kept(msgspec.Struct, frozen=True, omit_defaults=True):
    """An incident on disk."""

    number: int
    began: str  # ISO 8601
    ended: str
    set_off: list[str]  # words of the rules that held
    words: str | None = None  # the user's note
    state: Literal["new", "judged"] = "new"  # new until it was judged
    level: str | None = None
    limiting: str | None = None
    headline: str | None = None
    culprit: str | None = None
    marked_by: int | None = None  # user number of that person

    @property
    def is_only_marked(self) -> bool:
        """Whether nothing but somebody's mark set it off."""
        return self.set_off == [MARKED]

    @property
    def by_person(self) -> bool:
        """Whether it is kept whatever it was: somebody said so, or the recorder was cut off."""
        return not set(self.set_off).isdisjoint((MARKED, CUT_OFF))


class Incident:
    """One that is open. Times are seconds of the run; ``held_s`` is when a rule held last."""

    def __init__(self, began_s: float, at_s: float) -> None:
        self.began_s = began_s
        self.held_s = at_s
        self.set_off: dict[str, None] = {}
        self.words: list[str] = []
        self.marked_by: int | None = None


class TickTime(NamedTuple):
    """A tick: seconds of the run, and the wall clock."""

    at_s: float
    now: datetime


class Incidents:
    """Follows which rules hold, and keeps what belongs together."""

    def __init__(self, folder: Path, ring: Ring, rules: dict[str, Rule], most_bytes: int) -> None:
        self._folder = folder
        self._most_bytes = most_bytes
        self._ring = ring
        self._rules = rules
        self._open: Incident | None = None
        # a rule that held when an incident grew too long starts no other before it was over
        self._worn: set[str] = set()

    @property
    def is_open(self) -> bool:
        """Whether something holds now."""
        return self._open is not None

    def add(self, tick_time: TickTime, holding: dict[str, float]) -> Path | None:
        """Take what holds at a tick; return the capture of an incident that ended with it."""
        self._worn &= set(holding)
        fresh = {name: since_s for name, since_s in holding.items() if name not in self._worn}
        for name, since_s in fresh.items():
            self._take(tick_time, name, since_s)
        if self._open is None:
            return None
        if tick_time.at_s - self._open.began_s >= MOST_S:
            self._worn |= set(fresh)
            return self._keep(tick_time)
        return self._keep(tick_time) if tick_time.at_s - self._open.held_s >= QUIET_S else None

    def mark(self, tick_time: TickTime, mark: Mark) -> None:
        """Take what somebody says of the present time."""
        self._take(tick_time, MARKED, tick_time.at_s)
        assert self._open is not None  # it was taken
        self._open.words.append(mark.words)
        if self._open.marked_by is None:
            self._open.marked_by = mark.uid

    def close(self, tick_time: TickTime) -> Path | None:
        """Keep what is open when the recorder ends."""
        return self._keep(tick_time) if self._open else None

    @property
    def holding(self) -> list[str]:
        """Rules that hold now, as half sentences."""
        names = self._open.set_off if self._open else ()
        return [
            self._rules[name].text if name in self._rules else "somebody said so" for name in names
        ]

    def _take(self, tick_time: TickTime, name: str, since_s: float) -> None:
        if self._open is None:
            self._open = Incident(since_s, tick_time.at_s)
        self._open.began_s = min(self._open.began_s, since_s)
        self._open.held_s = tick_time.at_s
        self._open.set_off[name] = None

    def _keep(self, tick_time: TickTime) -> Path | None:
        incident, self._open = self._open, None
        assert incident is not None  # the caller has checked
        now_s = tick_time.now.timestamp()
        # a kept incident ends a while after the last tick at which a rule held
        began_wall_s, ended_wall_s = (
            now_s - (tick_time.at_s - at_s) for at_s in (incident.began_s, incident.held_s)
        )
        mark = IncidentMark(list(incident.set_off), incident.began_s, incident.held_s)
        found_words = " / ".join(incident.words) or None
        window = TimeWindow(began_wall_s - BEFORE_S, ended_wall_s + AFTER_S)
        what = Keeping(window, mark, began_wall_s, ended_wall_s, found_words, incident.marked_by)
        segments = self._ring.segments[-KEPT_SEGMENTS:]
        return keep(self._folder, segments, what, self._most_bytes)


# as many as an incident with what is around it may reach into
KEPT_SEGMENTS = 3


class Keeping(NamedTuple):
    """Window to keep: the reason, begin and end, and the messages."""

    window: TimeWindow
    mark: IncidentMark
    began_wall_s: float
    ended_wall_s: float
    words: str | None = None
    marked_by: int | None = None


def keep(folder: Path, segments: list[Path], what: Keeping, most_bytes: int) -> Path | None:
    """Keep a window as an incident; return its capture, None if that could not be.

    ``most_bytes`` is what the recorder may take, of which incidents have their share.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=MODE)
        check_room(folder)
        before = read_incidents(folder)
        number = before[-1].number + 1 if before else 1
        path = capture_of(folder, number)
        cut(segments, what.window, path, note=what.words, incident=what.mark, force=True)
        began, ended = (
            datetime.fromtimestamp(wall_s).astimezone().isoformat(timespec="seconds")
            for wall_s in (what.began_wall_s, what.ended_wall_s)
        )
        kept = Kept(number, began, ended, what.mark.set_off, what.words, marked_by=what.marked_by)
        write_kept(folder, kept)
        for old in too_many([*before, kept]):
            drop(folder, old.number)
        _drop_until(folder, round(INCIDENT_SHARE * most_bytes), number)
    except (OSError, CaptureError, OutputError) as error:
        _LOG.warning("an incident could not be kept: %s", error)
        return None
    return path


def too_many(incidents: Sequence[Kept]) -> list[Kept]:
    """Return those to be dropped: the oldest, and of those that people marked their own oldest.

    Marks displace nothing but marks, and first those of the user with the most.
    """
    genuine = [incident for incident in incidents if not incident.is_only_marked]
    dropped = genuine[: max(0, len(genuine) - KEPT_MOST)]
    marked = [incident for incident in incidents if incident.is_only_marked]
    while len(marked) > MARKED_MAX:
        (user, _), *_ = Counter(kept.marked_by for kept in marked).most_common(1)
        oldest = next(kept for kept in marked if kept.marked_by == user)
        marked.remove(oldest)
        dropped.append(oldest)
    return dropped


def incident_bytes(folder: Path) -> int:
    """Return the size of the incidents of a folder in bytes."""
    with suppress(FileNotFoundError):
        return sum(entry.stat(follow_symlinks=False).st_size for entry in os.scandir(folder))
    return 0


def _drop_until(folder: Path, most_bytes: int, newest: int) -> None:
    """Drop incidents until they fit, marks first, and never the newest."""
    others = [incident for incident in read_incidents(folder) if incident.number != newest]
    for other in sorted(others, key=lambda other: (not other.is_only_marked, other.number)):
        if incident_bytes(folder) <= most_bytes:
            return
        drop(folder, other.number)


def read_incidents(folder: Path) -> list[Kept]:
    """Return the incidents of a folder, the oldest first, without those that cannot be read."""
    incidents = []
    with suppress(FileNotFoundError):
        for entry in os.scandir(folder):
            if NAME.fullmatch(entry.name) and entry.is_file(follow_symlinks=False):
                try:
                    incidents.append(msgspec.json.decode(Path(entry.path).read_bytes(), type=Kept))
                except (OSError, msgspec.MsgspecError) as error:
                    _LOG.warning("%s: not an incident (%s)", entry.path, error)
    return sorted(incidents, key=lambda incident: incident.number)


def capture_of(folder: Path, number: int) -> Path:
    """Return the path of the capture of an incident."""
    return folder / f"incident-{number:03}.jsonl.gz"


def write_kept(folder: Path, kept: Kept) -> None:
    """Write what is known of an incident, whole or not at all."""
    path = folder / f"incident-{kept.number:03}.json"
    new = path.with_suffix(".new")
    descriptor = os.open(new, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW, 0o600)
    with os.fdopen(descriptor, "wb") as stream:
        stream.write(msgspec.json.encode(kept) + b"\n")
        stream.flush()
        os.fsync(descriptor)
    new.replace(path)


def drop(folder: Path, number: int) -> None:
    """Forget an incident that was none, or that is too old."""
    capture_of(folder, number).unlink(missing_ok=True)
    (folder / f"incident-{number:03}.json").unlink(missing_ok=True)
