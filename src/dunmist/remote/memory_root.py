"""Hold the files, links and directories that a remote computer sent in memory.

``MemoryRoot`` has the interface of ``Root``, but nothing of it is on a disk, because the sender
chooses the names and the targets of links. A link is data here, and nothing resolves it.
``computer.read_paths`` lists the accepted paths.
"""

import errno
import os
import re
from collections.abc import Iterable
from pathlib import Path

from dunmist.computer import Root
from dunmist.computer.parsing import text_of

# limits of all that is held, and what one more entry costs besides its text (measured: 210 bytes)
TOTAL_MAX_BYTES, ENTRY_BYTES = 128 << 20, 250
# no path that the collector reads is half as long
PATH_MAX_CHARACTERS = 1024
_COMPONENT = re.compile(r"[^/\0\n]{1,255}")


class TooMuch(Exception):
    """More than any computer publishes was sent."""


class MemoryRoot(Root):
    """Files, links and directories by path; ``label`` is what messages call this computer."""

    keeps_open = False

    def __init__(self, label: str) -> None:
        super().__init__(Path(label))
        self.is_this_computer = False
        self._files: dict[str, bytes] = {}
        self._links: dict[str, bytes] = {}
        self._changed_s: dict[str, float] = {}
        # names in a directory, in the order in which they came
        self._children: dict[str, dict[str, None]] = {"": {}}
        self._total_bytes = 0

    def write(self, path: str, data: bytes) -> None:
        """Set the contents of a file; raises TooMuch."""
        before = self._files.get(path)
        if before is None:
            self._add(path)
        self._count(len(data) - len(before or b""))
        self._files[path] = data

    def link_to(self, path: str, target: bytes) -> None:
        """Set the target of a link, which nothing ever follows; raises TooMuch."""
        before = self._links.get(path)
        if before is None:
            self._add(path)
        self._count(len(target) - len(before or b""))
        self._links[path] = target

    def make_directory(self, path: str) -> None:
        """Add a directory and its parents; raises TooMuch."""
        if path not in self._children:
            self._add(path)
            self._children[path] = {}

    def set_changed(self, path: str, changed_s: float) -> None:
        """Set when a file was changed, which need not be held; raises TooMuch."""
        if path not in self._changed_s:
            self._count(ENTRY_BYTES + len(path))
        self._changed_s[path] = changed_s

    def remove(self, path: str) -> None:
        """Remove a file, a link, or a directory with all that is in it."""
        for name in list(self._children.pop(path, ())):
            self.remove(f"{path}/{name}")
        held = self._files.pop(path, None), self._links.pop(path, None)
        parent, _, name = path.rpartition("/")
        siblings = self._children.get(parent, {})
        if name in siblings:
            del siblings[name]
            self._total_bytes -= ENTRY_BYTES + len(path) + sum(len(data or b"") for data in held)

    def _add(self, path: str) -> None:
        """Enter a new path into the directories above it; raises TooMuch and ValueError."""
        if len(path) > PATH_MAX_CHARACTERS or not all(map(_is_component, path.split("/"))):
            raise ValueError(f"not a path below a root: {path[:80]!r}")
        while path:
            self._count(ENTRY_BYTES + len(path))
            parent, _, name = path.rpartition("/")
            if known := parent in self._children:
                self._children[parent][name] = None
            else:
                self._children[parent] = {name: None}
            if known:
                return
            path = parent

    def _count(self, more_bytes: int) -> None:
        self._total_bytes += more_bytes
        if self._total_bytes > TOTAL_MAX_BYTES:
            raise TooMuch(f"it sends more than {TOTAL_MAX_BYTES >> 20} MiB of files")

    def open(self, name: str) -> int:
        """Return a descriptor of a file in memory that holds the contents of now."""
        data = self.read(name)
        descriptor = os.memfd_create("dunmist", os.MFD_CLOEXEC)
        while data:
            data = data[os.write(descriptor, data) :]
        return descriptor

    def read(self, name: str) -> bytes:
        """Return a file's bytes; raises OSError."""
        data = self._files.get(name)
        if data is None:
            is_other = name in self._links or name in self._children
            number = errno.EINVAL if is_other else errno.ENOENT
            raise OSError(number, os.strerror(number), name)
        return data

    def read_start(self, name: str, most_bytes: int) -> bytes:
        """Return at most so many bytes of what a file begins with; raises OSError."""
        return self.read(name)[:most_bytes]

    def read_end(self, name: str, most_bytes: int) -> bytes:
        """Return at most so many bytes of what a file ends with; raises OSError."""
        return self.read(name)[-most_bytes:]

    def read_again(self, name: str) -> bytes:
        """Return a file's bytes; raises OSError."""
        return self.read(name)

    def listing(self, directory: str) -> list[str]:
        """Return the names in a directory; raises OSError."""
        if directory not in self._children:
            is_other = directory in self._files or directory in self._links
            number = errno.ENOTDIR if is_other else errno.ENOENT
            raise OSError(number, os.strerror(number), directory)
        return list(self._children[directory])

    def links_in(self, directory: str) -> Iterable[tuple[str, str | None]]:
        """Yield each name in a directory with the target of the link; raises OSError."""
        return [(name, self.link(f"{directory}/{name}")) for name in self.listing(directory)]

    def exists(self, name: str) -> bool:
        """Whether there is a file, a link or a directory of that name."""
        return name in self._files or name in self._links or name in self._children

    def accessed_s(self, name: str) -> float:
        """Raise OSError: no times are sent."""
        raise OSError(errno.ENOENT, os.strerror(errno.ENOENT), name)

    def changed_s(self, name: str) -> float | None:
        """Return when something was changed, in seconds since 1970; None if none was sent."""
        return self._changed_s.get(name)

    def dated_names(self, directory: str) -> list[str]:
        """Return the names in a directory whose times were sent."""
        start = f"{directory}/"
        names = (name.removeprefix(start) for name in self._changed_s if name.startswith(start))
        return sorted(name for name in names if "/" not in name)

    def link(self, name: str) -> str | None:
        """Return the target of a link, None when there is none."""
        target = self._links.get(name)
        return None if target is None else text_of(target)

    def close(self) -> None:
        """Forget everything."""
        super().close()
        self._files.clear()
        self._links.clear()
        self._changed_s.clear()
        self._children = {"": {}}
        self._total_bytes = 0


def _is_component(name: str) -> bool:
    return name not in (".", "..") and _COMPONENT.fullmatch(name) is not None
