"""The history: SQLite, one writer, pieces that are added whole or not at all, and never twice.

A rollback journal and ``synchronous=FULL`` have it survive a kill and a power cut
(https://www.sqlite.org/atomiccommit.html).
"""

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path

from dunmist.errors import HistoryError
from dunmist.history.schema import (
    KINDS,
    LATEST_S,
    PERIOD_COLUMNS,
    Identity,
    checked,
    put_sum,
    sums_of,
    values_of,
)
from dunmist.history.sums import DAY_S, HOUR_S, Event, Level, Period, Piece

# older hours become days, older days go; identities of segments are needed while those are there
HOURS_KEPT_S, DAYS_KEPT_S, IDENTITIES_KEPT_S = 60 * DAY_S, 400 * DAY_S, 30 * DAY_S
# a clock that is wrong for less than this takes nothing away
BELIEVED_HOURS, BELIEVED_S = 24, 30 * DAY_S
PERIODS = f"SELECT id, {', '.join(PERIOD_COLUMNS)} FROM period"  # noqa: S608 - names of our own
# primary codes of SQLite's errors: the file itself is at fault (https://www.sqlite.org/rescode.html)
DAMAGED, PRIMARY = (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB), 0xFF


class History:
    """An open history; use it as a context manager. Raises HistoryError."""

    def __init__(self, path: Path, base: sqlite3.Connection, *, is_given: bool = False) -> None:
        self.path = path
        self._is_given = is_given  # by somebody, who may have written anything
        self._base = base
        self._names: dict[str, int] = {}
        self._since_s = 0.0  # of what is being added

    def __enter__(self) -> "History":
        return self

    def __exit__(self, *_: object) -> None:
        self._base.close()

    def identity(self) -> str | None:
        """Return the identity of the history's computer, None before anything was added."""
        with database_errors(self.path):
            row = self._base.execute("SELECT value FROM about WHERE what = 'computer'").fetchone()
        return None if row is None else str(row[0])

    def has(self, identity: str) -> bool:
        """Whether a piece was added."""
        with database_errors(self.path):
            row = self._base.execute("SELECT 1 FROM added WHERE identity = ?", (identity,))
            return row.fetchone() is not None

    def add(self, piece: Piece, computer: Identity, *, also_overlapping: bool = False) -> bool:
        """Add a piece whole or not at all; false where it was added already.

        Of what was recorded at the same time only the first counts, besides ``also_overlapping``:
        the clock of a recorder may have been set back.
        """
        with database_errors(self.path), self._writing():
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
            self._since_s = piece.began_s
            for part in piece.periods:
                self._add_to_period(part)
                for name in part.small:
                    self._name(name)
            self._write_events(piece.events)
            self._base.execute(
                "INSERT INTO added VALUES (?, ?, ?)", (piece.identity, piece.began_s, piece.ended_s)
            )
        return True

    def add_events(self, events: Sequence[Event]) -> None:
        """Add things that happened."""
        with database_errors(self.path), self._writing():
            self._write_events(events)

    def periods(self, since_s: float = 0.0) -> list[Period]:
        """Return all periods that end after a time, the oldest first."""
        with database_errors(self.path):
            by_id = {
                number: Period(*values)
                for number, *values in self._base.execute(
                    f"{PERIODS} WHERE began_s + length_s > ? ORDER BY began_s", (since_s,)
                )
            }
            if not by_id:
                return []
            names = dict(self._base.execute("SELECT id, text FROM name"))
            for kind, of in KINDS:
                rows = self._base.execute(
                    f"SELECT * FROM {kind} WHERE period IN "  # noqa: S608 - names of our own
                    "(SELECT id FROM period WHERE began_s + length_s > ?)",
                    (since_s,),
                )
                # at once, as the time for an answer is bounded
                for number, name, read in sums_of(of, rows.fetchall(), is_given=self._is_given):
                    period = by_id.get(number)
                    if period is not None:
                        put_sum(period, names.get(name, ""), read)
            for number, what, name, value, whole in self._base.execute("SELECT * FROM level"):
                if number in by_id:
                    level = Level(what, names.get(name, ""), value, whole)
                    by_id[number].levels[what, level.name] = level
            periods = list(by_id.values())
            return checked(periods) if self._is_given else periods

    def names_before(self, at_s: float) -> frozenset[str]:
        """Return the names of all programs and devices that were seen before a time."""
        with database_errors(self.path):
            rows = self._base.execute("SELECT text FROM name WHERE since_s < ?", (at_s,))
            return frozenset(str(text) for (text,) in rows)

    def events(self, since_s: float = 0.0) -> list[Event]:
        """Return the events since a time, the oldest first."""
        with database_errors(self.path):
            rows = self._base.execute(
                "SELECT at_s, what, name, value FROM event WHERE at_s >= ? ORDER BY at_s",
                (since_s,),
            )
            events = [Event(*row) for row in rows]
            if not all(0 <= each.at_s < LATEST_S for each in events):
                raise ValueError("it has an impossible time")
            return events

    def make_room(self) -> None:
        """Make days of old hours, and take away what is too old; the newest hours say what is old.

        A clock that was wrong for a while makes nothing old.
        """
        with database_errors(self.path), self._writing():
            now_s = self._believed_now_s()
            if now_s is None:
                return
            old = self._base.execute(
                f"{PERIODS} WHERE length_s = ? AND began_s < ?", (HOUR_S, now_s - HOURS_KEPT_S)
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
        for index in range(len(hours) - 1, BELIEVED_HOURS - 2, -1):
            if hours[index] - hours[index - BELIEVED_HOURS + 1] <= BELIEVED_S:
                return float(hours[index])
        return None

    @contextmanager
    def _writing(self) -> Iterator[None]:
        self._base.execute("BEGIN IMMEDIATE")
        with ExitStack() as unless_done:
            unless_done.callback(self._roll_back)
            yield
            self._base.execute("COMMIT")
            unless_done.pop_all()

    def _roll_back(self) -> None:
        # a full disk has done so already
        if self._base.in_transaction:
            self._base.execute("ROLLBACK")
        self._names.clear()

    def _name(self, text: str) -> int:
        number = self._names.get(text)
        if number is None:
            self._base.execute(
                "INSERT OR IGNORE INTO name (text, since_s) VALUES (?, ?)", (text, self._since_s)
            )
            row = self._base.execute("SELECT id FROM name WHERE text = ?", (text,)).fetchone()
            number = self._names[text] = int(row[0])
        return number

    def _add_to_period(self, part: Period) -> None:
        row = self._base.execute(
            f"{PERIODS} WHERE began_s = ? AND length_s = ?", (part.began_s, part.length_s)
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
            for _, name, read in sums_of(of, rows, is_given=self._is_given):
                put_sum(period, names.get(name, ""), read)
        for what, name, value, whole in self._base.execute(
            "SELECT what, name, value, whole FROM level WHERE period = ?", (number,)
        ):
            level = Level(what, names.get(name, ""), value, whole)
            period.levels[what, level.name] = level

    def _write_events(self, events: Sequence[Event]) -> None:
        self._base.executemany(
            "INSERT OR IGNORE INTO event VALUES (?, ?, ?, ?)",
            [(int(each.at_s), each.what, each.name, each.value) for each in events],
        )

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
            rows = [(number, self._name(name), *values_of(each)) for name, each in sums.items()]
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


class Damaged(HistoryError):
    """A history that cannot be read any more; it may be put aside."""


@contextmanager
def database_errors(path: Path) -> Iterator[None]:
    """Say what went wrong in one line: damaged, busy, full, or not to be written."""
    try:
        yield
    except sqlite3.Error as error:
        # errors that are not SQLite's own have no code
        code = getattr(error, "sqlite_errorcode", 0)
        if code & PRIMARY in DAMAGED:
            raise Damaged(f"{path}: is damaged ({error}); move it away") from error
        if code & PRIMARY == sqlite3.SQLITE_INTERRUPT:
            raise HistoryError(f"{path}: takes too long to read; it may be no history") from error
        raise HistoryError(f"{path}: {error}; nothing was added") from error
    except (TypeError, ValueError, OverflowError) as error:
        raise Damaged(f"{path}: is damaged ({error}); move it away") from error
