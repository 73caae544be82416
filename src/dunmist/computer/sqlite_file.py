"""Read SQLite databases of the patient: never trusted, never written to.

The file may come from anywhere, and SQLite runs what its schema says. So only plain tables that the
caller names are read, through an authorizer, with limits of size, memory and time. Source: "Defense
Against The Dark Arts" of SQLite's documentation.
"""

import os
import sqlite3
import time
from collections.abc import Callable, Iterable, Mapping
from contextlib import closing
from typing import TypeVar

from dunmist.computer.parsing import ParseError
from dunmist.computer.root import Root, reason_of

# the columns that are read, by table
Tables = Mapping[str, frozenset[str]]
SCHEMA = "sqlite_master"
# the header of a package with a hundred thousand files has some MiB
VALUE_MAX_BYTES, HEAP_MAX_BYTES = 16 << 20, 64 << 20
# instructions of SQLite between two readings of the clock, and when it is given up
STEPS, DEADLINE_S = 1000, 2.0
Answer = TypeVar("Answer")


def ask_database(
    root: Root,
    path: str,
    tables: Tables,
    subject: str,
    question: Callable[[sqlite3.Connection], Iterable[Answer]],
) -> list[Answer]:
    """Return the rows of a query; a failure is a blind spot, and the rows before it count."""
    answers: list[Answer] = []
    try:
        descriptor = root.open(path)
    except OSError as error:
        root.note(subject, reason_of(error))
        return answers
    try:
        with closing(open_database(descriptor, tables)) as base:
            for answer in question(base):
                answers.append(answer)
    except sqlite3.Error:
        root.note(subject, "failed")
    except ParseError:
        root.note(subject, "garbled")
    finally:
        os.close(descriptor)
    return answers


def open_database(descriptor: int, tables: Tables) -> sqlite3.Connection:
    """Return a database open for reading; raises sqlite3.Error where it lacks the tables."""
    # immutable: neither locks nor writes anything next to the file
    uri = f"file:/proc/self/fd/{descriptor}?mode=ro&immutable=1"
    base = sqlite3.connect(uri, uri=True, check_same_thread=False)
    try:
        base.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, VALUE_MAX_BYTES)
        base.setlimit(sqlite3.SQLITE_LIMIT_ATTACHED, 0)
        base.setlimit(sqlite3.SQLITE_LIMIT_TRIGGER_DEPTH, 1)
        base.execute(f"PRAGMA hard_heap_limit={HEAP_MAX_BYTES}")
        base.execute("PRAGMA trusted_schema=OFF")
        until_s = time.monotonic() + DEADLINE_S
        base.set_progress_handler(lambda: int(time.monotonic() > until_s), STEPS)
        base.set_authorizer(_authorizer(tables))
        _check_schema(base, tables)
    except sqlite3.Error:
        base.close()
        raise
    return base


def _authorizer(
    tables: Tables,
) -> Callable[[int, str | None, str | None, str | None, str | None], int]:
    """Return an authorizer that allows reading columns and the schema, not a view or a trigger."""

    def authorize(
        action: int, first: str | None, second: str | None, base: str | None, inner: str | None
    ) -> int:
        del base
        if action == sqlite3.SQLITE_SELECT:
            return sqlite3.SQLITE_OK
        is_column = second in tables.get(first or "", ()) or first == SCHEMA
        if action == sqlite3.SQLITE_READ and inner is None and (is_column or not second):
            return sqlite3.SQLITE_OK
        return sqlite3.SQLITE_DENY

    return authorize


def _check_schema(base: sqlite3.Connection, tables: Tables) -> None:
    rows = base.execute("SELECT type, name, sql FROM sqlite_master")
    plain = {
        name
        for kind, name, sql in rows
        if kind == "table"
        and isinstance(sql, str)
        and sql.upper().startswith("CREATE TABLE")
        and "GENERATED" not in sql.upper()
        and " AS " not in sql.upper()
    }
    if not plain.issuperset(tables):
        raise sqlite3.DatabaseError(f"it has not the tables {', '.join(sorted(tables))}")
