"""Newer versions of running programs that the package manager has already heard of.

Sources: sources.list(5) and apt-get(8) for ``/var/lib/apt/lists``, deb-version(7) for the order of
versions, the Debian repository format for ``NotAutomatic``. A list has tens of MiB and is ordered
by source package, so that a few looks find one: nothing is read through. A list in another order
gives nothing, and neither does a packed one or that of another manager, which is noted.
"""

import os
import re
from collections.abc import Iterable, Iterator

import msgspec

from dunmist.computer.packages import DPKG, RPM, Package
from dunmist.computer.parsing import parse_text, text_of
from dunmist.computer.root import Root, reason_of

SUBJECT = "lists of available packages"
LISTS = "var/lib/apt/lists"
LIST, PACKED = "_Packages", ("_Packages.lz4", "_Packages.xz", "_Packages.gz", "_Packages.zst")
RELEASES = ("_InRelease", "_Release")
# the head of a Release file, where its date stands
RELEASE_MOST_BYTES = 8 << 10
# stanzas this close are read in one piece; a stanza is seldom longer than a few KiB
NEAR_BYTES, WINDOW_BYTES, READ_MOST_BYTES = 64 << 10, 64 << 10, 4 << 20
BETWEEN = b"\n\nPackage: "
_SOURCE, _NAME = re.compile(rb"\nSource: (\S+)"), re.compile(rb"Package: (\S+)")
_PIECE = re.compile(r"(\D*)(\d*)")
_END = ((0,), 0)
BEFORE_END = "~"


class KnownUpdate(msgspec.Struct, frozen=True):
    """A package of a running program, and the newer version that a list has."""

    name: str
    installed: str
    known: str


class KnownUpdates(msgspec.Struct, frozen=True, omit_defaults=True):
    """``listed_s`` is when the newest list was fetched, seconds since 1970."""

    updates: list[KnownUpdate] = []
    listed_s: float | None = None


def read_known_updates(root: Root, packages: Iterable[Package]) -> KnownUpdates | None:
    """Return newer versions of these packages; None if there are no lists to look into."""
    names = sorted(root.names(LISTS))
    if any(name.endswith(PACKED) for name in names):
        root.note(SUBJECT, "packed")
    lists = list(_lists(root, names))
    if not lists:
        if any(map(root.exists, RPM)):
            root.note(SUBJECT, "absent")
        return None
    wanted = {package.name: package for package in packages if package.version}
    newest: dict[str, str] = {}
    for name in lists:
        for package, version in _versions(root, name, wanted.values()):
            before = newest.get(package.name, package.version or "")
            if version_key(version) > version_key(before):
                newest[package.name] = version
    return KnownUpdates(
        [
            KnownUpdate(name, wanted[name].version or "", version)
            for name, version in sorted(newest.items())
        ],
        max((at_s for name in lists if (at_s := root.changed_s(f"{LISTS}/{name}"))), default=None),
    )


def _lists(root: Root, names: list[str]) -> Iterator[str]:
    """Yield the lists that updates are taken from, of this computer's own architecture."""
    own = root.parse(f"{DPKG}/arch", parse_text, SUBJECT, may_be_absent=True)
    architecture = own.split()[0] if own else None
    for name in names:
        of = name.removesuffix(LIST).rpartition("_binary-")[2]
        if name.endswith(LIST) and architecture in (None, of):
            releases = [
                list_name
                for list_name in names
                if list_name.endswith(RELEASES) and _is_of(list_name, name)
            ]
            if not any(_is_left_out(root, release) for release in releases):
                yield name


def _is_of(release: str, name: str) -> bool:
    return name.startswith(release.rpartition("_")[0] + "_")


def _is_left_out(root: Root, release: str) -> bool:
    # nothing is taken from such a place unless somebody asks for it
    try:
        head = root.read_start(f"{LISTS}/{release}", RELEASE_MOST_BYTES)
    except OSError:
        return False
    return re.search(rb"^NotAutomatic: yes", head, re.M) is not None


def _versions(root: Root, name: str, packages: Iterable[Package]) -> Iterator[tuple[Package, str]]:
    try:
        descriptor = root.open(f"{LISTS}/{name}")
    except OSError as error:
        root.note(SUBJECT, reason_of(error))
        return
    try:
        size = os.fstat(descriptor).st_size
        for package in packages:
            for stanza in _stanzas(descriptor, size, package):
                version = _field(stanza, b"Version")
                if version:
                    yield package, version
    except OSError as error:
        root.note(SUBJECT, reason_of(error))
    finally:
        os.close(descriptor)


def _stanzas(descriptor: int, size: int, package: Package) -> Iterator[bytes]:
    """Yield the entries of a package in a sorted list: halve until near, then read on."""
    source, name = (package.source or package.name).encode(), package.name.encode()
    low, high = 0, size
    while high - low > NEAR_BYTES:
        middle = (low + high) // 2
        window = os.pread(descriptor, WINDOW_BYTES, middle)
        begins = window.find(BETWEEN)
        stanza = window[begins + 2 :].partition(b"\n\n")[0]
        if begins < 0 or _source_of(stanza) >= source:
            high = middle
        else:
            low = middle + begins + 2
    for stanza in _from(descriptor, low):
        if _source_of(stanza) > source:
            return
        if stanza.partition(b"\n")[0] == b"Package: " + name:
            yield stanza


def _from(descriptor: int, offset: int) -> Iterator[bytes]:
    rest, until = b"", offset + READ_MOST_BYTES
    while offset < until and (data := os.pread(descriptor, WINDOW_BYTES, offset)):
        offset += len(data)
        *whole, rest = (rest + data).split(b"\n\n")
        yield from whole
    yield rest


def _source_of(stanza: bytes) -> bytes:
    match = _SOURCE.search(stanza) or _NAME.match(stanza)
    return match[1] if match else b""


def _field(stanza: bytes, name: bytes) -> str | None:
    match = re.search(rb"^" + name + rb": (\S+)$", stanza, re.M)
    return text_of(match[1]) if match else None


def version_key(version: str) -> tuple[object, ...]:
    """Return the sort key of a version (deb-version(7))."""
    epoch, _, rest = version.rpartition(":")
    upstream, _, revision = rest.rpartition("-") if "-" in rest else (rest, "", "")
    return int(epoch) if epoch.isdigit() else 0, _parts(upstream), _parts(revision)


def _parts(text: str) -> tuple[tuple[tuple[int, ...], int], ...]:
    parts = [
        ((*map(_order, letters), 0), int(digits or 0)) for letters, digits in _PIECE.findall(text)
    ]
    while parts and parts[-1] == _END:
        parts.pop()
    # a tilde sorts before the end of a version
    return (*parts, _END)


def _order(letter: str) -> int:
    if letter == BEFORE_END:
        return -1
    return ord(letter) if letter.isalpha() else ord(letter) + 256
