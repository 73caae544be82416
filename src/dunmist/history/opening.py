"""Opens a history: one's own to add to or to read, or one that somebody gave; or puts it away.

Only a plain file of one's own is written to, which no link leads to, readable by its owner alone.
"""

import os
import sqlite3
import stat
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Literal

from dunmist.computer.sqlite_file import open_database
from dunmist.errors import CaptureError, HistoryError
from dunmist.history.database import History, database_errors
from dunmist.history.schema import (
    APPLICATION_ID,
    HEADER_BYTES,
    HEADER_PLACES,
    KINDS,
    MIGRATIONS,
    SCHEMA,
    TABLES,
    columns_of,
    declared_table,
)
from dunmist.plain_files import open_plain

MODE, DIRECTORY_MODE = 0o600, 0o700
BUSY_S = 5.0
IsolationLevel = Literal["DEFERRED"] | None


def open_history(path: Path, *, create: bool = False) -> History | None:
    """Open a history for adding to it, None if there is none; ``create`` makes a new one.

    Raises HistoryError where it is somebody else's, a link, damaged, or of a newer version.
    """
    if not _is_there(path):
        if not create:
            return None
        _make(path)
    with _connected(path, str(path), isolation_level=None) as base:
        base.execute("PRAGMA journal_mode=DELETE")
        base.execute("PRAGMA synchronous=FULL")
        _prepare(path, base)
    return History(path, base)


def read_history(path: Path) -> History:
    """Open a history for reading alone; raises HistoryError, also where there is none."""
    if not _is_there(path):
        raise HistoryError(f"{path}: is not there; 'dunmist watch' keeps one")
    with _connected(path, f"file:{_quoted(path)}?mode=ro", uri=True) as base:
        _check(path, base)
    return History(path, base)


def read_given(path: Path) -> History:
    """Open a history that somebody gave, which may be anybody's; raises HistoryError.

    Its schema is data of a stranger: only the tables and columns of a history are read.
    """
    try:
        with open_plain(path) as stream:
            header = stream.read(HEADER_BYTES)
            version, number = (int.from_bytes(header[at : at + 4], "big") for at in HEADER_PLACES)
            _check_numbers(path, number, version)
            # SQLite opens it again by its descriptor
            with database_errors(path):
                base = open_database(stream.fileno(), columns_of())
                return History(path, base, is_given=True)
    except CaptureError as error:
        raise HistoryError(f"{path}: is no plain file; give a history") from error
    except OSError as error:
        raise HistoryError(f"{path}: {error.strerror}; give a history") from error


def put_aside(path: Path) -> Path:
    """Move a damaged history away and return where it is now; raises HistoryError."""
    aside = path.with_name(f"{path.stem}-damaged-{int(time.time())}{path.suffix}")
    try:
        path.rename(aside)
        # half-finished files belong to it
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


@contextmanager
def _connected(
    path: Path, target: str, *, isolation_level: IsolationLevel = "DEFERRED", uri: bool = False
) -> Iterator[sqlite3.Connection]:
    """Give an open connection, which stays open only where all that is done with it succeeds."""
    with database_errors(path), ExitStack() as unless_opened:
        base = sqlite3.connect(target, timeout=BUSY_S, isolation_level=isolation_level, uri=uri)
        unless_opened.callback(base.close)
        base.execute("PRAGMA trusted_schema=OFF")
        yield base
        unless_opened.pop_all()


def _is_there(path: Path) -> bool:
    try:
        about = path.lstat()
    except (FileNotFoundError, NotADirectoryError):
        return False
    except OSError as error:
        raise HistoryError(f"{path}: {error.strerror}; check the directory") from error
    if not stat.S_ISREG(about.st_mode) and not stat.S_ISLNK(about.st_mode):
        raise HistoryError(f"{path}: is no plain file; move it away")
    if stat.S_ISLNK(about.st_mode) or about.st_nlink > 1:
        raise HistoryError(f"{path}: is a link, and what it leads to is not trusted; move it away")
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
        for statement in (*TABLES.split(";"), *(declared_table(kind, of) for kind, of in KINDS)):
            base.execute(statement)
        base.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        base.execute(f"PRAGMA user_version = {SCHEMA}")
        base.execute("COMMIT")
    (version,) = base.execute("PRAGMA user_version").fetchone()
    (number,) = base.execute("PRAGMA application_id").fetchone()
    if number == APPLICATION_ID and version in MIGRATIONS:
        base.execute("BEGIN IMMEDIATE")
        while version in MIGRATIONS:
            base.execute(MIGRATIONS[version])
            version += 1
        base.execute(f"PRAGMA user_version = {version}")
        base.execute("COMMIT")
    _check(path, base)


def _check(path: Path, base: sqlite3.Connection) -> None:
    (number,) = base.execute("PRAGMA application_id").fetchone()
    (version,) = base.execute("PRAGMA user_version").fetchone()
    _check_numbers(path, number, version)


def _check_numbers(path: Path, number: int, version: int) -> None:
    if number != APPLICATION_ID:
        raise HistoryError(f"{path}: is no history of this program; move it away")
    if version < SCHEMA:
        raise HistoryError(
            f"{path}: was written by an older version; 'dunmist watch' brings it up to date"
        )
    if version > SCHEMA:
        raise HistoryError(
            f"{path}: was written by a newer version and is left alone; update dunmist, or move it "
            "away"
        )


def _quoted(path: Path) -> str:
    from urllib.parse import quote

    return quote(str(path.absolute()))
