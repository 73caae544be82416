"""Find the package of an executable in the databases of dpkg and rpm.

Sources: dpkg(1) (``info/*.list`` and ``status``), deb-control(5); rpm's ``docs/manual/format.md``
for headers, kept in an SQLite file since rpm 4.16. Reading them costs a tenth of a second or two,
so it is done once, in the pause before the last tick and after it.
"""

import re
from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING

import msgspec

from dunmist.computer.parsing import text_of
from dunmist.computer.root import Root, reason_of

if TYPE_CHECKING:
    import sqlite3

SUBJECT = "package databases"
DPKG = "var/lib/dpkg"
RPM = ("usr/lib/sysimage/rpm/rpmdb.sqlite", "var/lib/rpm/rpmdb.sqlite")
# directories of the root that have moved below usr: lists may name either (file-hierarchy(7))
MERGED = ("/bin/", "/sbin/", "/lib/", "/lib64/")
# directories of packages, and those that packages leave to others (FHS 3.0)
PACKAGED_DIRECTORIES, LOCAL = (
    (*MERGED, "/lib32/", "/usr/", "/opt/", "/etc/", "/var/lib/"),
    "/usr/local/",
)
# five times as much as a computer with ten thousand packages has
LISTS_MAX, LISTS_MAX_BYTES = 50_000, 512 << 20
_PACKAGE = re.compile(rb"^Package: (.+)$", re.M)


class Package(msgspec.Struct, frozen=True, omit_defaults=True):
    """The package that a program's file came with."""

    executable: str  # the file of the process; a script where one is run
    name: str
    version: str | None = None
    about: str | None = None  # first line of its description
    source: str | None = None  # source package, None if it has the same name


class PackageLookup:
    """Looks up the packages of executables in steps, so that a tick need not wait for it."""

    def __init__(self, root: Root, executables: Iterable[str]) -> None:
        self.executables = frozenset(path for path in executables if _may_be_packaged(path))
        self._root = root
        self._found: list[Package] = []
        self._has_lists = root.exists(f"{DPKG}/info")
        self._steps = self._look_up(sorted(self.executables))

    def go_on(self, is_time_over: Callable[[], bool]) -> None:
        """Look on until all is found or the time is over."""
        for _ in self._steps:
            if is_time_over():
                return

    def packages(self) -> list[Package]:
        """Finish the lookup; return the packages, without programs that have none."""
        self.go_on(lambda: False)
        wanted = sorted(self.executables)
        if not wanted or self._has_lists:
            return self._found
        # questions to a database are not cut into steps, so no tick has to wait for them
        if any(map(self._root.exists, RPM)):
            return _from_rpm(self._root, wanted)
        self._root.note(SUBJECT, "absent")
        return []

    def _look_up(self, wanted: list[str]) -> Iterator[None]:
        """Look into the lists of dpkg, where there are any."""
        if not wanted or not self._has_lists:
            return
        owners: dict[str, str] = {}
        yield from self._find_owners(wanted, owners)
        self._found += _described(self._root, owners)

    def _find_owners(self, wanted: list[str], owners: dict[str, str]) -> Iterator[None]:
        """Find the package of each executable, one list at a step."""
        by_line = {other.encode(): path for path in wanted for other in _spellings(path)}
        lists = [name for name in self._root.names(f"{DPKG}/info") if name.endswith(".list")]
        likely = re.compile("|".join(re.escape(_stem(path)) for path in wanted))
        lists.sort(key=lambda name: likely.search(name) is None)
        left_bytes = LISTS_MAX_BYTES
        for number, name in enumerate(lists):
            if len(owners) == len(wanted):
                return
            if number >= LISTS_MAX or left_bytes <= 0:
                self._root.note(SUBJECT, "too-many")
                return
            for piece in _pieces(self._root, f"{DPKG}/info/{name}", b"\n"):
                left_bytes -= len(piece)
                for line in by_line.keys() & set(piece.split(b"\n")):
                    owners.setdefault(by_line[line], name.removesuffix(".list").partition(":")[0])
            yield


def read_packages(root: Root, executables: Iterable[str]) -> list[Package]:
    """Return the packages of the executables; those that belong to none are left out."""
    return PackageLookup(root, executables).packages()


def _may_be_packaged(path: str) -> bool:
    return path.startswith(PACKAGED_DIRECTORIES) and not path.startswith(LOCAL)


def _pieces(root: Root, name: str, separator: bytes) -> Iterator[bytes]:
    try:
        yield from root.pieces(name, separator)
    except OSError as error:
        root.note(SUBJECT, reason_of(error), name)


def _described(root: Root, owners: dict[str, str]) -> Iterator[Package]:
    """Yield the packages of the executables with what dpkg's status says of them."""
    stanzas: dict[str, bytes] = {}
    names = {name.encode() for name in owners.values()}
    for piece in _pieces(root, f"{DPKG}/status", b"\n\n"):
        for match in _PACKAGE.finditer(piece):
            if match[1] in names:
                end = piece.find(b"\n\n", match.start())
                stanza = piece[match.start() : end if end >= 0 else len(piece)]
                # the same one for another kind of machine comes later
                stanzas.setdefault(text_of(match[1]), stanza)
    for path, package in sorted(owners.items()):
        stanza = stanzas.get(package, b"")
        source = (_field(stanza, b"Source") or "").partition(" ")[0]
        yield Package(
            path,
            package,
            _field(stanza, b"Version"),
            _field(stanza, b"Description"),
            source or None,
        )


def _stem(path: str) -> str:
    """Return the part of a program's name that its package is likely to share."""
    return re.split(r"[^a-z]", path.rpartition("/")[2].lower(), maxsplit=1)[0] or path


def _spellings(path: str) -> list[str]:
    if path.startswith(MERGED):
        return [path, f"/usr{path}"]
    short = path.removeprefix("/usr")
    return [path, short] if short != path and short.startswith(MERGED) else [path]


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
