"""Find packages in the SQLite database that rpm uses since 4.16: by a file, and the newest ones.

Sources: rpm's ``docs/manual/format.md`` for headers; ``rpmdb.sqlite``'s tables ``Packages``,
``Basenames`` and ``Installtid``, whose key is when rpm ran (four bytes, little-endian on all that
runs Linux on a desk).
"""

import sqlite3
import struct
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple, TypeVar

from dunmist.computer.packages import RPM
from dunmist.computer.parsing import ParseError, text_of
from dunmist.computer.root import Root
from dunmist.computer.sqlite_file import Tables, ask_database

TABLES: Tables = {
    "Packages": frozenset(("hnum", "blob")),
    "Basenames": frozenset(("hnum", "key")),
    "Installtid": frozenset(("hnum", "key")),
}
# packages that can hold a file of the same name, and that one update brings
ROWS_MAX = 200
# entries of the table of runs: one for each package
RUNS_MAX = 100_000
# lib/rpmtag.h of rpm
TAG_NAME, TAG_VERSION, TAG_RELEASE, TAG_SUMMARY = 1000, 1001, 1002, 1004
TAG_DIRINDEXES, TAG_BASENAMES, TAG_DIRNAMES = 1116, 1117, 1118
TAGS = frozenset(
    (TAG_NAME, TAG_VERSION, TAG_RELEASE, TAG_SUMMARY, TAG_DIRINDEXES, TAG_BASENAMES, TAG_DIRNAMES)
)
# a header has some hundred tags, and the largest package some hundred thousand files
INDEX_MAX, VALUES_MAX = 10_000, 500_000
RUN_BYTES = 4
_INDEX = struct.Struct(">IIII")  # tag, type, offset, count
Words = dict[int, list[str] | list[int]]
Answer = TypeVar("Answer")


class RpmPackage(NamedTuple):
    """A package by its header, with the files it installs."""

    name: str
    version: str | None
    summary: str | None
    files: list[str]


class InstalledPackage(NamedTuple):
    """A package with when it was put in (since 1970); what was there before is not known."""

    at_s: float
    name: str
    version: str | None


def ask_rpm(
    root: Root, subject: str, question: Callable[[sqlite3.Connection], Iterable[Answer]]
) -> list[Answer]:
    """Return the rows of a computer's database, empty without one; a failure is a blind spot."""
    path = next((name for name in RPM if root.exists(name)), None)
    return [] if path is None else ask_database(root, path, TABLES, subject, question)


def find_packages(base: sqlite3.Connection, file_name: str) -> Iterator[RpmPackage]:
    """Yield the packages with a file of this last name; raises sqlite3.Error and ParseError."""
    rows = base.execute(
        "SELECT blob FROM Packages WHERE hnum IN (SELECT hnum FROM Basenames WHERE key = ?)",
        (file_name,),
    )
    for blob, _ in zip((blob for (blob,) in rows), range(ROWS_MAX), strict=False):
        if not isinstance(blob, bytes):
            raise ParseError("rpm header", "no bytes", b"")
        words = parse_rpm_header(blob)
        name = _first(words, TAG_NAME)
        if name:
            yield RpmPackage(
                name, _first(words, TAG_VERSION), _first(words, TAG_SUMMARY), list(_files(words))
            )


def find_installed_since(base: sqlite3.Connection, since_s: float) -> Iterator[InstalledPackage]:
    """Yield the packages that were installed or upgraded since; raises as ``find_packages``."""
    runs = base.execute("SELECT key, hnum FROM Installtid LIMIT ?", (RUNS_MAX,)).fetchall()
    recent = [
        (at_s, number)
        for key, number in runs
        if isinstance(key, bytes) and len(key) == RUN_BYTES
        # a run is numbered by its second
        if (at_s := int.from_bytes(key, "little")) >= since_s
    ]
    for at_s, number in sorted(recent, key=lambda run: -run[0])[:ROWS_MAX]:
        row = base.execute("SELECT blob FROM Packages WHERE hnum = ?", (number,)).fetchone()
        if row is None or not isinstance(row[0], bytes):
            raise ParseError("rpm header", "no bytes", b"")
        words = parse_rpm_header(row[0])
        name = _first(words, TAG_NAME)
        parts = [part for tag in (TAG_VERSION, TAG_RELEASE) if (part := _first(words, tag))]
        if name:
            yield InstalledPackage(float(at_s), name, "-".join(parts) or None)


def parse_rpm_header(blob: bytes) -> Words:
    """Return texts and 32-bit numbers of the tags that are read; raises ParseError."""
    if len(blob) < 8:
        raise ParseError("rpm header", "cut short", blob)
    count, size = struct.unpack_from(">II", blob)
    start = 8 + count * _INDEX.size
    if count > INDEX_MAX or start + size > len(blob):
        raise ParseError("rpm header", "longer than its blob", blob[:8])
    data = blob[start : start + size]
    words: Words = {}
    for position in range(8, start, _INDEX.size):
        tag, kind, offset, number = _INDEX.unpack_from(blob, position)
        if tag not in TAGS or tag in words:
            continue
        if number > VALUES_MAX:
            raise ParseError("rpm header", "more values than any package has", blob[:8])
        if kind in (6, 8, 9):  # one text, several, translated ones
            words[tag] = [text_of(text) for text in data[offset:].split(b"\0", number)[:number]]
        elif kind == 4 and offset + 4 * number <= len(data):
            words[tag] = list(struct.unpack_from(f">{number}I", data, offset))
    return words


def _first(words: Words, tag: int) -> str | None:
    return str(words[tag][0]) if words.get(tag) else None


def _files(words: Words) -> Iterator[str]:
    directories = words.get(TAG_DIRNAMES, [])
    for name, index in zip(
        words.get(TAG_BASENAMES, []), words.get(TAG_DIRINDEXES, []), strict=False
    ):
        if isinstance(index, int) and index < len(directories):
            yield f"{directories[index]}{name}"
