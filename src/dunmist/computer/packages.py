"""Which installed package an executable belongs to: the databases of dpkg and of rpm.

Sources: dpkg(1) (``info/*.list`` and ``status``), deb-control(5); rpm's ``docs/manual/format.md``
for headers, kept in an SQLite file since rpm 4.16. Reading them costs a tenth of a second or two,
so it is done once, after the last tick.
"""

import re
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

import msgspec

from dunmist.computer.parsing import text_of
from dunmist.computer.root import Root

if TYPE_CHECKING:
    import sqlite3

SUBJECT = "package databases"
DPKG = "var/lib/dpkg"
RPM = ("usr/lib/sysimage/rpm/rpmdb.sqlite", "var/lib/rpm/rpmdb.sqlite")
# directories of the root that have moved below usr: lists may name either (file-hierarchy(7))
MERGED = ("/bin/", "/sbin/", "/lib/", "/lib64/")
# five times as much as a computer with ten thousand packages has
LISTS_MAX, LISTS_MAX_BYTES = 50_000, 512 << 20


class Package(msgspec.Struct, frozen=True, omit_defaults=True):
    """The package that a program's file came with."""

    executable: str  # the file of the process; a script where one is run
    name: str
    version: str | None = None
    about: str | None = None  # first line of its description
    source: str | None = None  # source package, None where it has the same name


def read_packages(root: Root, executables: Iterable[str]) -> list[Package]:
    """Return the packages of the executables; those that belong to none are left out."""
    wanted = sorted({path for path in executables if path.startswith("/")})
    if not wanted:
        return []
    if root.exists(f"{DPKG}/info"):
        return list(_from_dpkg(root, wanted))
    if any(map(root.exists, RPM)):
        return _from_rpm(root, wanted)
    root.note(SUBJECT, "absent")
    return []


def _from_dpkg(root: Root, wanted: list[str]) -> Iterator[Package]:
    owners: dict[str, str] = {}
    by_line = {other.encode(): path for path in wanted for other in _spellings(path)}
    lists = [name for name in root.names(f"{DPKG}/info") if name.endswith(".list")]
    left_bytes = LISTS_MAX_BYTES
    for number, name in enumerate(lists):
        if number >= LISTS_MAX or left_bytes <= 0:
            root.note(SUBJECT, "too-many")
            break
        data = root.parse(f"{DPKG}/info/{name}", bytes, SUBJECT) or b""
        left_bytes -= len(data)
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


def _from_rpm(root: Root, wanted: list[str]) -> list[Package]:
    # a computer without rpm does not load SQLite
    from dunmist.computer.rpm_database import ask_rpm

    return ask_rpm(
        root,
        SUBJECT,
        lambda base: (found for path in wanted for found in _owner_in_rpm(base, path)),
    )


def _owner_in_rpm(base: "sqlite3.Connection", path: str) -> Iterator[Package]:
    from dunmist.computer.rpm_database import find_packages

    for package in find_packages(base, path.rpartition("/")[2]):
        if set(_spellings(path)) & set(package.files):
            yield Package(path, package.name, package.version, package.summary)
            return
