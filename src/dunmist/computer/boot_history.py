"""Earlier starts of this computer, and whether the run before each ended in order.

Sources: utmp(5) for the records of ``/var/log/wtmp``; a start is ``BOOT_TIME``, an orderly end is
written as ``RUN_LVL`` for the user ``shutdown`` (systemd-update-utmp(8), shutdown(8)). Both have
the kernel's release in place of a host. Systems without that file, whose 32-bit times end in 2038,
have a database in its place (wtmpdb(8)): the time of a start in microseconds, with its end where
that was in order. Where there is neither, the heads of the journal's files
(systemd.io/JOURNAL_FILE_FORMAT) tell some of the starts: each when its last entry was written, and
how long after the start.
"""

import struct
from collections.abc import Iterator
from typing import TYPE_CHECKING

import msgspec

from dunmist.computer.root import Root, reason_of
from dunmist.computer.utmp import LoginRecord, parse_login_records

if TYPE_CHECKING:
    import sqlite3

SUBJECT = "earlier starts"
RECORDS = "var/log/wtmp"
# of a file that grows for years the end is enough
RECORDS_MOST_BYTES = 384 * 4000
# three months with a start each day
STARTS_MOST = 100
# kinds of records, utmp(5)
BOOT_TIME, RUN_LEVEL, SHUTDOWN = 2, 1, "shutdown"
# a clock without a battery begins at its own beginning
PLAUSIBLE_FROM_S = 1_000_000_000
DATABASE = "var/lib/wtmpdb/wtmp.db"
DATABASE_TABLES = {"wtmp": frozenset(("ID", "Type", "Login", "Logout", "RemoteHost"))}
DATABASE_BOOT_TIME, RELEASE_LONGEST = 1, 200
JOURNALS = ("var/log/journal", "run/log/journal")
JOURNAL_MARK, JOURNAL_HEAD_BYTES, JOURNAL_FILES_MOST = b"LPKSHHRH", 208, 200
# boot, and of its newest entry the time since 1970 and since the start
JOURNAL_HEAD = struct.Struct("<8s48x16s112x8xQQ")
US_PER_S = 1e6


class ComputerStart(msgspec.Struct, frozen=True, omit_defaults=True):
    """A start at ``at_s`` since 1970; whether the run before it ended in order, None if unknown."""

    at_s: float
    after_order: bool | None
    kernel: str | None = None  # its release


def starts_of(records: list[LoginRecord]) -> list[ComputerStart]:
    """Return the starts among records in their order; of the first nothing before is known."""
    starts: list[ComputerStart] = []
    ended = False
    for record in records:
        if record.kind == RUN_LEVEL and record.user == SHUTDOWN:
            ended = True
        elif record.kind == BOOT_TIME and record.since_s >= PLAUSIBLE_FROM_S:
            after_order = ended if starts else None
            starts.append(ComputerStart(float(record.since_s), after_order, record.host or None))
            ended = False
    return starts[-STARTS_MOST:]


def read_starts(root: Root) -> list[ComputerStart]:
    """Return the newest starts that are on record."""
    if not root.exists(RECORDS):
        return _starts_in_database(root) if root.exists(DATABASE) else _starts_in_journal(root)
    try:
        data = root.read_end(RECORDS, RECORDS_MOST_BYTES)
    except OSError as error:
        root.note(SUBJECT, reason_of(error))
        return []
    records = root.parsed(data, parse_login_records, SUBJECT, RECORDS)
    return starts_of(records or [])


def _starts_in_database(root: Root) -> list[ComputerStart]:
    # it loads SQLite, which most captures need not
    from dunmist.computer.sqlite_file import ask_database

    return ask_database(root, DATABASE, DATABASE_TABLES, SUBJECT, _find_starts)


def _find_starts(base: "sqlite3.Connection") -> Iterator[ComputerStart]:
    rows = base.execute(
        "SELECT Login, Logout, RemoteHost FROM wtmp WHERE Type = ? ORDER BY ID DESC LIMIT ?",
        (DATABASE_BOOT_TIME, STARTS_MOST),
    ).fetchall()
    ended: bool | None = None
    for login_us, logout_us, release in reversed(rows):
        if isinstance(login_us, int) and login_us >= PLAUSIBLE_FROM_S * US_PER_S:
            kernel = release[:RELEASE_LONGEST] if isinstance(release, str) else None
            yield ComputerStart(login_us / US_PER_S, ended, kernel or None)
            ended = logout_us is not None


def _starts_in_journal(root: Root) -> list[ComputerStart]:
    """Return the starts of which a file of the journal ends; nobody knows how they ended."""
    files = [
        f"{folder}/{computer}/{name}"
        for folder in JOURNALS
        for computer in root.names(folder)
        for name in root.names(f"{folder}/{computer}")
        if name.startswith("system") and name.endswith((".journal", ".journal~"))
    ]
    if not files:
        root.note(SUBJECT, "absent")
    starts: dict[bytes, float] = {}
    for file in files[:JOURNAL_FILES_MOST]:
        try:
            head = root.read_start(file, JOURNAL_HEAD_BYTES)
        except OSError as error:
            root.note(SUBJECT, reason_of(error))
            continue
        boot, started_s = _journal_start(head) or (b"", 0.0)
        if started_s >= PLAUSIBLE_FROM_S:
            starts[boot] = min(started_s, starts.get(boot, started_s))
    return [ComputerStart(at_s, None) for at_s in sorted(starts.values())[-STARTS_MOST:]]


def _journal_start(head: bytes) -> tuple[bytes, float] | None:
    """Return boot and start of the newest entry of a file, None if it has none."""
    if len(head) < JOURNAL_HEAD.size:
        return None
    mark, boot, realtime_us, monotonic_us = JOURNAL_HEAD.unpack_from(head)
    if mark != JOURNAL_MARK or not realtime_us:
        return None
    return boot, (realtime_us - monotonic_us) / US_PER_S
