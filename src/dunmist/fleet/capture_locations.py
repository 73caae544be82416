"""Finds captures, collectors' files and histories: in folders, by patterns, where fsspec opens."""

from collections.abc import Iterator
from typing import TYPE_CHECKING, NamedTuple

from dunmist.errors import CaptureError

if TYPE_CHECKING:
    from fsspec import AbstractFileSystem

HISTORY = ".sqlite3"
ENDINGS = (".jsonl.gz", ".jsonl", ".txt.gz", ".txt", HISTORY)
ANY = "*?["


class CaptureLocation(NamedTuple):
    """One file: its path here or its address as fsspec opens it, and the folder it lies in."""

    address: str
    site: str
    is_local: bool = False

    @property
    def is_history(self) -> bool:
        """Whether it is a history, by its name."""
        return self.address.endswith(HISTORY)


def find(places: list[str]) -> Iterator[CaptureLocation]:
    """Yield the files of all places, each once; raises CaptureError for an invalid place."""
    seen: set[str] = set()
    for place in places:
        for location in _in_place(place):
            if location.address not in seen:
                seen.add(location.address)
                yield location


def _in_place(place: str) -> Iterator[CaptureLocation]:
    from fsspec.core import url_to_fs

    try:
        system, path = url_to_fs(place)
        for name in _names(system, path):
            if name.endswith(ENDINGS):
                address = _address(place, system, name)
                site = name.rpartition("/")[0].rpartition("/")[2]
                yield CaptureLocation(address, site, "file" in system.protocol)
    except (OSError, ValueError, ImportError) as error:
        reason = getattr(error, "strerror", None) or error
        raise CaptureError(f"{place}: {reason}; give a folder, a pattern or an address") from error


def _address(place: str, system: "AbstractFileSystem", name: str) -> str:
    """Return the address by which any worker opens a file of a place."""
    # a plain path stays one: the triage of a file names it as it was named
    if "file" in system.protocol:
        return name
    address = str(system.unstrip_protocol(name))
    scheme, _, host = place.partition("://")
    host = host.partition("/")[0]
    # some file systems are one computer, whose name is no part of a path
    return address if host in address else f"{scheme}://{host}{name}"


def _names(system: "AbstractFileSystem", path: str) -> list[str]:
    if any(mark in path for mark in ANY):
        return sorted(str(name) for name in system.glob(path))
    if system.isdir(path):
        return sorted(str(name) for name in system.find(path))
    if not system.exists(path):
        raise OSError("no such file or directory")
    return [path]
