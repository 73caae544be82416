"""The file of the history: SQLite, one writer, readable by its owner alone.

A transaction adds one piece whole or not at all: rollback journal and ``synchronous=FULL``, so that
it survives a kill and a power cut (https://www.sqlite.org/atomiccommit.html). Only a plain file of
one's own is opened, which no link leads to.
"""

import os
import sqlite3
import stat
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import fields
from pathlib import Path
from typing import Any, NamedTuple

from dunmist.computer import Machine
from dunmist.errors import HistoryError
from dunmist.history.sums import (
    DAY_S,
    HOUR_S,
    ApplicationSum,
    DiskSum,
    Event,
    HeatSum,
    Level,
    Period,
    Piece,
    ResourceSum,
    Sum,
    packed,
    unpacked,
)

NAME = "history.sqlite3"
# of SQLite's header: what tells this file from those of other programs, and its schema
APPLICATION_ID, SCHEMA = 0x44754D69, 1
MODE, DIRECTORY_MODE = 0o600, 0o700
BUSY_S = 5.0
# older hours become days, older days go; identities of segments are needed while those are there
HOURS_KEPT_S, DAYS_KEPT_S, IDENTITIES_KEPT_S = 60 * DAY_S, 400 * DAY_S, 30 * DAY_S
# a clock that is wrong for less than this takes nothing away
BELIEVED_HOURS, BELIEVED_S = 24, 30 * DAY_S
KINDS: tuple[tuple[str, type[Sum]], ...] = (
    ("application", ApplicationSum),
    ("resource", ResourceSum),
    ("disk", DiskSum),
    ("heat", HeatSum),
)
_TABLES = """
CREATE TABLE about (what TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE name (id INTEGER PRIMARY KEY, text TEXT NOT NULL UNIQUE);
CREATE TABLE period (
    id INTEGER PRIMARY KEY, began_s INTEGER NOT NULL, length_s INTEGER NOT NULL,
    offset_s INTEGER NOT NULL, sampled_s REAL NOT NULL, clock_set INTEGER NOT NULL,
    cpus INTEGER NOT NULL, memory_bytes INTEGER NOT NULL, UNIQUE (began_s, length_s));
CREATE TABLE level (
    period INTEGER NOT NULL, what TEXT NOT NULL, name INTEGER NOT NULL, value REAL NOT NULL,
    whole REAL NOT NULL, PRIMARY KEY (period, what, name)) WITHOUT ROWID;
CREATE TABLE event (
    at_s INTEGER NOT NULL, what TEXT NOT NULL, name TEXT NOT NULL, value REAL,
    PRIMARY KEY (at_s, what, name)) WITHOUT ROWID;
CREATE TABLE added (
    identity TEXT PRIMARY KEY, began_s REAL NOT NULL, ended_s REAL NOT NULL) WITHOUT ROWID;
"""


class Identity(NamedTuple):
    """What tells a computer from others: its name, and what it is made of."""

    host: str
    model: str
    cpus: int

    @property
    def text(self) -> str:
        """The identity as it is stored."""
        return f"{self.host}\n{self.model}\n{self.cpus}"


def identity_of(machine: Machine) -> Identity:
    """Return what tells a computer from others."""
    return Identity(machine.host or "", machine.model or "", len(machine.processors))


class History:
    """An open history; use it as a context manager. Raises HistoryError."""

    def __init__(self, path: Path, base: sqlite3.Connection) -> None:
        self.path = path
        self._base = base
        self._names: dict[str, int] = {}

    def __enter__(self) -> "History":
        return self

    def __exit__(self, *_: object) -> None:
        self._base.close()

    def identity(self) -> str | None:
        """Return whose history it is, None before anything was added."""
        with _told(self.path):
            row = self._base.execute("SELECT value FROM about WHERE what = 'computer'").fetchone()
        return None if row is None else str(row[0])

    def has(self, identity: str) -> bool:
        """Whether a piece was added."""
        with _told(self.path):
            row = self._base.execute("SELECT 1 FROM added WHERE identity = ?", (identity,))
            return row.fetchone() is not None

    def add(self, piece: Piece, computer: Identity, *, also_overlapping: bool = False) -> bool:
        """Add a piece whole or not at all; false where it was added already.

        Of what was recorded at the same time only the first counts, besides ``also_overlapping``:
        the clock of a recorder may have been set back.
        """
        with _told(self.path), self._writing():
            if self.has(piece.identity):
                return False
            overlaps = self._base.execute(
                "SELECT 1 FROM added WHERE began_s < ? AND ended_s > ?",
                (piece.ended_s, piece.began_s),
            )
            if not also_overlapping and overlaps.fetchone() is not None:
                return False
            self._base.execute(
                "INSERT OR REPLACE INTO about VALUES ('computer', ?)", (computer.text,)
            )
            for part in piece.periods:
                self._add_to_period(part)
            self._base.executemany(
                "INSERT OR IGNORE INTO event VALUES (?, ?, ?, ?)",
                [(int(e.at_s), e.what, e.name, e.value) for e in piece.events],
            )
            self._base.execute(
                "INSERT INTO added VALUES (?, ?, ?)", (piece.identity, piece.began_s, piece.ended_s)
            )
        return True

    def tell(self, events: Sequence[Event]) -> None:
        """Add things that happened."""
        with _told(self.path), self._writing():
            self._base.executemany(
                "INSERT OR IGNORE INTO event VALUES (?, ?, ?, ?)",
                [(int(e.at_s), e.what, e.name, e.value) for e in events],
            )

    def periods(self, since_s: float = 0.0, application: str | None = None) -> list[Period]:
        """Return all periods that end after a moment, the oldest first.

        With ``application`` only that one's sums are read.
        """
        with _told(self.path):
            by_id = {
                number: Period(*values)
                for number, *values in self._base.execute(
                    "SELECT id, began_s, length_s, offset_s, sampled_s, clock_set, cpus, "
                    "memory_bytes FROM period WHERE began_s + length_s > ? ORDER BY began_s",
                    (since_s,),
                )
            }
            if not by_id:
                return []
            names = dict(self._base.execute("SELECT id, text FROM name"))
            for kind, of in KINDS:
                only = ""
                if kind == "application" and application is not None:
                    only = "AND name = (SELECT id FROM name WHERE text = :application)"
                rows = self._base.execute(
                    f"SELECT * FROM {kind} WHERE period IN "  # noqa: S608 - names of our own
                    f"(SELECT id FROM period WHERE began_s + length_s > :since_s) {only}",
                    {"since_s": since_s, "application": application},
                )
                for number, name, *values in rows:
                    period, read = by_id.get(number), _sum_of(of, values)
                    if period is not None:
                        _put(period, names.get(name, ""), read)
            for number, what, name, value, whole in self._base.execute("SELECT * FROM level"):
                if number in by_id:
                    level = Level(what, names.get(name, ""), value, whole)
                    by_id[number].levels[what, level.name] = level
        return list(by_id.values())

    def events(self, since_s: float = 0.0) -> list[Event]:
        """Return what happened since a moment, the oldest first."""
        with _told(self.path):
            rows = self._base.execute(
                "SELECT at_s, what, name, value FROM event WHERE at_s >= ? ORDER BY at_s",
                (since_s,),
            )
            return [Event(*row) for row in rows]

    def make_room(self) -> None:
        """Make days of old hours, and take away what is too old; the newest hours say what is old.

        A clock that was wrong for a while makes nothing old.
        """
        with _told(self.path), self._writing():
            now_s = self._believed_now_s()
            if now_s is None:
                return
            old = self._base.execute(
                "SELECT id, began_s, length_s, offset_s, sampled_s, clock_set, cpus, memory_bytes "
                "FROM period WHERE length_s = ? AND began_s < ?",
                (HOUR_S, now_s - HOURS_KEPT_S),
            ).fetchall()
            for number, *values in old:
                hour = Period(*values)
                self._read_into(number, hour)
                hour.began_s = hour.local_day * DAY_S - hour.offset_s
                hour.length_s = DAY_S
                self._drop(number)
                self._add_to_period(hour)
            days = "SELECT id FROM period WHERE length_s = ? AND began_s < ?"
            for (number,) in self._base.execute(days, (DAY_S, now_s - DAYS_KEPT_S)).fetchall():
                self._drop(number)
            for table, column, kept_s in (
                ("event", "at_s", DAYS_KEPT_S),
                ("added", "ended_s", IDENTITIES_KEPT_S),
            ):
                self._base.execute(
                    f"DELETE FROM {table} WHERE {column} < ?",  # noqa: S608 - names of our own
                    (now_s - kept_s,),
                )

    def _believed_now_s(self) -> float | None:
        """Return the newest hour with many others before it, which no wrong clock can make."""
        hours = [
            began_s
            for (began_s,) in self._base.execute(
                "SELECT began_s FROM period WHERE length_s = ? ORDER BY began_s", (HOUR_S,)
            )
        ]
        for place in range(len(hours) - 1, BELIEVED_HOURS - 2, -1):
            if hours[place] - hours[place - BELIEVED_HOURS + 1] <= BELIEVED_S:
                return float(hours[place])
        return None

    @contextmanager
    def _writing(self) -> Iterator[None]:
        self._base.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self._base.execute("ROLLBACK")
            self._names.clear()
            raise
        self._base.execute("COMMIT")

    def _name(self, text: str) -> int:
        number = self._names.get(text)
        if number is None:
            self._base.execute("INSERT OR IGNORE INTO name (text) VALUES (?)", (text,))
            row = self._base.execute("SELECT id FROM name WHERE text = ?", (text,)).fetchone()
            number = self._names[text] = int(row[0])
        return number

    def _add_to_period(self, part: Period) -> None:
        row = self._base.execute(
            "SELECT id, began_s, length_s, offset_s, sampled_s, clock_set, cpus, memory_bytes "
            "FROM period WHERE began_s = ? AND length_s = ?",
            (part.began_s, part.length_s),
        ).fetchone()
        if row is not None:
            number, *values = row
            whole = Period(*values)
            self._read_into(number, whole)
            self._drop(number)
            whole.add(part)
            part = whole
        self._write(part)

    def _read_into(self, number: int, period: Period) -> None:
        names = dict(
            self._base.execute(
                "SELECT id, text FROM name WHERE id IN (SELECT name FROM application WHERE period "
                "= ?1 UNION SELECT name FROM resource WHERE period = ?1 UNION SELECT name FROM "
                "disk WHERE period = ?1 UNION SELECT name FROM level WHERE period = ?1)",
                (number,),
            )
        )
        for kind, of in KINDS:
            rows = self._base.execute(
                f"SELECT * FROM {kind} WHERE period = ?",  # noqa: S608 - names of our own
                (number,),
            )
            for _, name, *values in rows:
                _put(period, names.get(name, ""), _sum_of(of, values))
        for what, name, value, whole in self._base.execute(
            "SELECT what, name, value, whole FROM level WHERE period = ?", (number,)
        ):
            level = Level(what, names.get(name, ""), value, whole)
            period.levels[what, level.name] = level

    def _drop(self, number: int) -> None:
        for kind, _ in KINDS:
            self._base.execute(f"DELETE FROM {kind} WHERE period = ?", (number,))  # noqa: S608
        self._base.execute("DELETE FROM level WHERE period = ?", (number,))
        self._base.execute("DELETE FROM period WHERE id = ?", (number,))

    def _write(self, period: Period) -> None:
        cursor = self._base.execute(
            "INSERT INTO period (began_s, length_s, offset_s, sampled_s, clock_set, cpus, "
            "memory_bytes) VALUES (?, ?, ?, ?, ?, ?, ?)",
            (
                *(period.began_s, period.length_s, period.offset_s, period.sampled_s),
                *(period.clock_set, period.cpus, period.memory_bytes),
            ),
        )
        number = cursor.lastrowid
        for kind, sums in (
            ("application", period.applications),
            ("resource", period.resources),
            ("disk", period.disks),
            ("heat", {"": period.heat}),
        ):
            rows = [(number, self._name(name), *_values(each)) for name, each in sums.items()]
            if rows:
                marks = ", ".join("?" * len(rows[0]))
                self._base.executemany(f"INSERT INTO {kind} VALUES ({marks})", rows)  # noqa: S608
        self._base.executemany(
            "INSERT INTO level VALUES (?, ?, ?, ?, ?)",
            [
                (number, level.what, self._name(level.name), level.value, level.whole)
                for level in period.levels.values()
            ],
        )


def open_history(path: Path, *, create: bool = False) -> History | None:
    """Open a history for adding to it, None where there is none; ``create`` makes a new one.

    Raises HistoryError where it is somebody else's, a link, damaged, or of a newer version.
    """
    if not _is_there(path):
        if not create:
            return None
        _make(path)
    with _told(path):
        base = sqlite3.connect(path, timeout=BUSY_S, isolation_level=None)
        try:
            base.execute("PRAGMA trusted_schema=OFF")
            base.execute("PRAGMA journal_mode=DELETE")
            base.execute("PRAGMA synchronous=FULL")
            _prepare(path, base)
        except BaseException:
            base.close()
            raise
    return History(path, base)


def read_history(path: Path) -> History:
    """Open a history for reading alone; raises HistoryError, also where there is none."""
    if not _is_there(path):
        raise HistoryError(f"{path}: is not there; 'dunmist watch' keeps one")
    with _told(path):
        base = sqlite3.connect(f"file:{_quoted(path)}?mode=ro", uri=True, timeout=BUSY_S)
        try:
            base.execute("PRAGMA trusted_schema=OFF")
            _check(path, base)
        except BaseException:
            base.close()
            raise
    return History(path, base)


def put_aside(path: Path) -> Path:
    """Move a damaged history away and return where it is now; raises HistoryError."""
    aside = path.with_name(f"{path.stem}-damaged-{int(time.time())}{path.suffix}")
    try:
        path.rename(aside)
        # what was half done belongs to it
        Path(f"{path}-journal").unlink(missing_ok=True)
    except OSError as error:
        raise HistoryError(f"{path}: is damaged and cannot be moved ({error.strerror})") from error
    return aside


def forget(path: Path) -> bool:
    """Delete a history; false where there is none. Raises HistoryError."""
    if not _is_there(path):
        return False
    try:
        for name in (path, Path(f"{path}-journal")):
            name.unlink(missing_ok=True)
    except OSError as error:
        raise HistoryError(f"{path}: {error.strerror}; delete it by hand") from error
    return True


class Damaged(HistoryError):
    """A history that cannot be read any more; it may be put aside."""


def _is_there(path: Path) -> bool:
    try:
        about = path.lstat()
    except (FileNotFoundError, NotADirectoryError):
        return False
    except OSError as error:
        raise HistoryError(f"{path}: {error.strerror}; see to the place") from error
    if stat.S_ISLNK(about.st_mode) or about.st_nlink > 1:
        raise HistoryError(f"{path}: is a link, and what it leads to is not trusted; move it away")
    if not stat.S_ISREG(about.st_mode):
        raise HistoryError(f"{path}: is no plain file; move it away")
    if about.st_uid != os.geteuid():
        raise HistoryError(f"{path}: belongs to somebody else; move it away")
    return True


def _make(path: Path) -> None:
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=DIRECTORY_MODE)
        flags = os.O_CREAT | os.O_EXCL | os.O_WRONLY | os.O_NOFOLLOW | os.O_CLOEXEC
        os.close(os.open(path, flags, MODE))
    except OSError as error:
        raise HistoryError(f"{path}: {error.strerror}; nothing is kept") from error


def _prepare(path: Path, base: sqlite3.Connection) -> None:
    """Make the tables of a new file, bring an older one up to date, or refuse what it is."""
    (number,) = base.execute("PRAGMA application_id").fetchone()
    (tables,) = base.execute("SELECT count(*) FROM sqlite_master").fetchone()
    if number == 0 and tables == 0:
        base.execute("BEGIN IMMEDIATE")
        for statement in (*_TABLES.split(";"), *(_declared(kind, of) for kind, of in KINDS)):
            base.execute(statement)
        base.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        base.execute(f"PRAGMA user_version = {SCHEMA}")
        base.execute("COMMIT")
    _check(path, base)


def _check(path: Path, base: sqlite3.Connection) -> None:
    (number,) = base.execute("PRAGMA application_id").fetchone()
    (version,) = base.execute("PRAGMA user_version").fetchone()
    if number != APPLICATION_ID:
        raise HistoryError(f"{path}: is no history of this program; move it away")
    if version > SCHEMA:
        raise HistoryError(
            f"{path}: was written by a newer version and is left alone; update dunmist, or move it "
            "away"
        )


def _declared(kind: str, of: type[Sum]) -> str:
    columns = ", ".join(
        f"{each.name} {'BLOB' if each.name.endswith('_bins') else 'REAL'} NOT NULL"
        for each in fields(of)
    )
    return (
        f"CREATE TABLE {kind} (period INTEGER NOT NULL, name INTEGER NOT NULL, {columns}, "
        "PRIMARY KEY (period, name)) WITHOUT ROWID"
    )


def _values(each: Sum) -> Iterator[float | bytes]:
    for column in fields(each):
        value: Any = getattr(each, column.name)
        yield packed(value) if isinstance(value, list) else value


def _sum_of(of: type[Sum], values: Sequence[float | bytes]) -> Sum:
    read = [unpacked(value) if isinstance(value, bytes) else float(value) for value in values]
    return of(*read)  # type: ignore[arg-type]  # the columns are made of its fields


def _put(period: Period, name: str, read: Sum) -> None:
    if isinstance(read, ApplicationSum):
        period.applications[name] = read
    elif isinstance(read, ResourceSum):
        period.resources[name] = read
    elif isinstance(read, DiskSum):
        period.disks[name] = read
    else:
        period.heat = read


def _quoted(path: Path) -> str:
    from urllib.parse import quote

    return quote(str(path.absolute()))


@contextmanager
def _told(path: Path) -> Iterator[None]:
    """Say what went wrong in one line: damaged, busy, full, or not to be written."""
    try:
        yield
    except sqlite3.OperationalError as error:
        if error.sqlite_errorcode in (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB):
            raise Damaged(f"{path}: is damaged ({error})") from error
        raise HistoryError(f"{path}: {error}; nothing was added") from error
    except (sqlite3.DatabaseError, TypeError, ValueError, OverflowError) as error:
        raise Damaged(f"{path}: is damaged ({error}); move it away") from error
