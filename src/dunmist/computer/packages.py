"""Which installed package an executable belongs to: the databases of dpkg and of rpm.

Sources: dpkg(1) (``info/*.list`` and ``status``), deb-control(5); rpm's ``docs/manual/format.md``
for headers, kept in an SQLite file since rpm 4.16. Reading them costs a tenth of a second or two,
so it is done once, after the last tick.
"""

import os
import re
import struct
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

import msgspec

from dunmist.computer.parsing import ParseError, text_of
from dunmist.computer.root import Root, reason_of

if TYPE_CHECKING:
    import sqlite3

SUBJECT = "package databases"
DPKG = "var/lib/dpkg"
RPM = ("usr/lib/sysimage/rpm/rpmdb.sqlite", "var/lib/rpm/rpmdb.sqlite")
# directories of the root that have moved below usr: lists may name either (file-hierarchy(7))
MERGED = ("/bin/", "/sbin/", "/lib/", "/lib64/")
TAG_NAME, TAG_VERSION, TAG_SUMMARY = 1000, 1001, 1004
TAG_DIRINDEXES, TAG_BASENAMES, TAG_DIRNAMES = 1116, 1117, 1118
_INDEX = struct.Struct(">IIII")  # tag, type, offset, count
HEADER_MOST_BYTES = 64 << 20


class Package(msgspec.Struct, frozen=True, omit_defaults=True):
    """The package that a program's file (executable or script) came with.

    ``source`` is what it was built from, None where that is called the same.
    """

    executable: str
    name: str
    version: str | None = None
    about: str | None = None
    source: str | None = None


def read_packages(root: Root, executables: Iterable[str]) -> list[Package]:
    """Return the packages of the executables; those that belong to none are left out."""
    wanted = sorted({path for path in executables if path.startswith("/")})
    if not wanted:
        return []
    if root.exists(f"{DPKG}/info"):
        return list(_from_dpkg(root, wanted))
    database = next((name for name in RPM if root.exists(name)), None)
    if database:
        return list(_from_rpm(root, database, wanted))
    root.note(SUBJECT, "absent")
    return []


def _from_dpkg(root: Root, wanted: list[str]) -> Iterator[Package]:
    owners: dict[str, str] = {}
    by_line = {other.encode(): path for path in wanted for other in _spellings(path)}
    for name in root.names(f"{DPKG}/info"):
        if not name.endswith(".list"):
            continue
        data = root.parse(f"{DPKG}/info/{name}", bytes, SUBJECT) or b""
        for line in by_line.keys() & set(data.split(b"\n")):
            owners.setdefault(by_line[line], name.removesuffix(".list").partition(":")[0])
    status = root.parse(f"{DPKG}/status", bytes, SUBJECT) or b""
    for path, package in sorted(owners.items()):
        stanza = _stanza(status, package)
        source = (_field(stanza, b"Source") or "").partition(" ")[0]
        yield Package(
            path,
            package,
            _field(stanza, b"Version"),
            _field(stanza, b"Description"),
            source or None,
        )


def _spellings(path: str) -> list[str]:
    if path.startswith(MERGED):
        return [path, f"/usr{path}"]
    short = path.removeprefix("/usr")
    return [path, short] if short != path and short.startswith(MERGED) else [path]


def _stanza(status: bytes, package: str) -> bytes:
    start = re.search(rb"^Package: " + re.escape(package.encode()) + rb"$", status, re.M)
    return status[start.start() :].partition(b"\n\n")[0] if start else b""


def _field(stanza: bytes, name: bytes) -> str | None:
    match = re.search(rb"^" + name + rb": (.+)$", stanza, re.M)
    return text_of(match[1].strip()) if match else None


def _from_rpm(root: Root, database: str, wanted: list[str]) -> Iterator[Package]:
    import sqlite3

    try:
        descriptor = root.open(database)
    except OSError as error:
        root.note(SUBJECT, reason_of(error))
        return
    try:
        # immutable: neither locks nor writes anything beside the file
        place = f"file:/proc/self/fd/{descriptor}?mode=ro&immutable=1"
        with sqlite3.connect(place, uri=True) as base:
            for path in wanted:
                yield from _owner_in_rpm(base, path)
    except sqlite3.Error:
        root.note(SUBJECT, "failed")
    except ParseError:
        root.note(SUBJECT, "garbled")
    finally:
        os.close(descriptor)


def _owner_in_rpm(base: "sqlite3.Connection", path: str) -> Iterator[Package]:
    rows = base.execute(
        "SELECT blob FROM Packages WHERE hnum IN (SELECT hnum FROM Basenames WHERE key = ?)",
        (path.rpartition("/")[2],),
    )
    for (blob,) in rows:
        words = parse_rpm_header(blob)
        if set(_spellings(path)) & set(_files(words)):
            name = _first(words, TAG_NAME)
            if name:
                yield Package(path, name, _first(words, TAG_VERSION), _first(words, TAG_SUMMARY))
            return


def parse_rpm_header(blob: bytes) -> dict[int, list[str] | list[int]]:
    """Return texts and 32-bit numbers of an rpm header by tag; raises ParseError."""
    if len(blob) < 8:
        raise ParseError("rpm header", "cut short", blob)
    count, size = struct.unpack_from(">II", blob)
    start = 8 + count * _INDEX.size
    if start + size > len(blob) or len(blob) > HEADER_MOST_BYTES:
        raise ParseError("rpm header", "longer than its blob", blob[:8])
    data = blob[start : start + size]
    words: dict[int, list[str] | list[int]] = {}
    for position in range(8, start, _INDEX.size):
        tag, kind, offset, number = _INDEX.unpack_from(blob, position)
        if kind in (6, 8, 9):  # one text, several, translated ones
            words[tag] = [text_of(text) for text in data[offset:].split(b"\0", number)[:number]]
        elif kind == 4 and offset + 4 * number <= len(data):
            words[tag] = list(struct.unpack_from(f">{number}I", data, offset))
    return words


def _first(words: dict[int, list[str] | list[int]], tag: int) -> str | None:
    return str(words[tag][0]) if words.get(tag) else None


def _files(words: dict[int, list[str] | list[int]]) -> Iterator[str]:
    directories = words.get(TAG_DIRNAMES, [])
    for name, index in zip(words.get(TAG_BASENAMES, []), words.get(TAG_DIRINDEXES, []),
                           strict=False):  # fmt: skip
        if isinstance(index, int) and index < len(directories):
            yield f"{directories[index]}{name}"
