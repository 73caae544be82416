"""The directory below which a computer publishes itself, and what of it could not be read.

Given a root directory (``/``, or one that holds a copy or a model of proc, sys and etc), it hands
bytes to the readers of this room. Files that are read at every tick stay open: reading again from
offset 0 makes the kernel write the text again (proc(5), sysfs(5)), and opening costs more than
reading. What could not be read is counted by subject, never silently left out.
"""

import errno
import os
import stat
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Literal, NamedTuple, TypeVar

from dunmist.computer.parsing import ParseError, text_of

Reason = Literal[
    "permission", "absent", "failed", "garbled", "overflow", "too-many", "switched-off", "packed"
]
Parsed = TypeVar("Parsed")

# most files of proc come in one read, plus the empty one at their end
CHUNK_BYTES = 1 << 16
# no file that is read is longer (a list of packages has some MiB), and what a user puts in the way
# does not fill the memory
READ_MOST_BYTES = 64 << 20
# opening never blocks on a FIFO and takes no controlling terminal
OPEN_FLAGS = os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK | os.O_NOCTTY
KERNEL_TREES = ("proc/", "sys/")
# entries of a directory; more are somebody's attempt to fill the capture
NAMES_MOST = 100_000
# files that stay open where nobody says how many may
HELD_MOST = 512
GONE = (errno.ENOENT, errno.ESRCH)


class Unread(NamedTuple):
    """Something unreadable, and the reason."""

    subject: str
    reason: Reason


def reason_of(error: OSError) -> Reason:
    """Return the reason for a blind spot that an error of the operating system stands for."""
    if error.errno in (errno.EACCES, errno.EPERM):
        return "permission"
    if error.errno in (*GONE, errno.ENOTDIR):
        return "absent"
    return "failed"


def read_whole(descriptor: int, most_bytes: int = READ_MOST_BYTES) -> bytes:
    """Return all of an open file from its start; raises OSError, also where it is too long.

    The kernel gives many of its files record by record, a page of them at once: a short answer is
    not the end, only an empty one is.
    """
    data = os.pread(descriptor, CHUNK_BYTES, 0)
    more = os.pread(descriptor, CHUNK_BYTES, len(data)) if data else b""
    if not more:
        return data
    parts = [data]
    offset = len(data)
    while more:
        parts.append(more)
        offset += len(more)
        if offset > most_bytes:
            raise OSError(errno.EFBIG, os.strerror(errno.EFBIG))
        more = os.pread(descriptor, CHUNK_BYTES, offset)
    return b"".join(parts)


class Root:
    """A computer's proc, sys and etc below one directory.

    ``is_this_computer`` says whether it is the running system, ``unread`` holds what could not be
    read, by subject and reason, each name once. ``keeps_open`` says whether a file that stays open
    shows its later contents.
    """

    keeps_open = True

    def __init__(self, path: Path) -> None:
        self.path = path
        self.is_this_computer = path == Path("/")
        self._directory: int | None = None
        self.unread: dict[Unread, set[str]] = {}
        self._held: dict[str, int] = {}
        self.held_most = HELD_MOST  # files that may stay open at once

    def full(self, name: str) -> str:
        """Return the path of a file below the root as text."""
        return f"{self.path}/{name}"

    def note(self, subject: str, reason: Reason, name: str = "") -> None:
        """Note the name of a file that could not be read, once."""
        names = self.unread.setdefault(Unread(subject, reason), set())
        if len(names) < NAMES_MOST:
            names.add(name)

    def open(self, name: str) -> int:
        """Open a plain file for reading and return its descriptor; raises OSError.

        What lies outside of the kernel's own trees may have been put there by anybody: a FIFO or a
        device in its place is refused.
        """
        descriptor = self._open(name, OPEN_FLAGS)
        trusted = self.is_this_computer and name.startswith(KERNEL_TREES)
        if not trusted and not stat.S_ISREG(os.fstat(descriptor).st_mode):
            os.close(descriptor)
            raise OSError(errno.EINVAL, "no plain file")
        return descriptor

    def _open(self, name: str, flags: int) -> int:
        """Open whatever is there; in a copy no link leads out of it."""
        if self.is_this_computer:
            return os.open(self.full(name), flags)
        # only a copy or a model needs it, and a patient's own memory is spared
        from dunmist.computer.rooted_open import open_inside

        if self._directory is None:
            self._directory = os.open(self.path, os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
        return open_inside(self._directory, name, flags)

    def read(self, name: str) -> bytes:
        """Return a file's bytes; raises OSError."""
        descriptor = self.open(name)
        try:
            return read_whole(descriptor)
        finally:
            os.close(descriptor)

    def read_start(self, name: str, most_bytes: int) -> bytes:
        """Return at most so many bytes of what a file begins with; raises OSError."""
        descriptor = self.open(name)
        data = b""
        try:
            # files that the kernel hands out by records are read page by page
            while more := os.pread(descriptor, most_bytes - len(data), len(data)):
                data += more
            return data
        finally:
            os.close(descriptor)

    def pieces(self, name: str, separator: bytes) -> Iterator[bytes]:
        """Yield a long file in pieces that end where a separator is; raises OSError.

        So no more of it than a piece is in memory. What stands between two separators and is longer
        than a piece comes in parts.
        """
        descriptor = self.open(name)
        try:
            offset, rest = 0, b""
            while chunk := os.pread(descriptor, CHUNK_BYTES, offset):
                offset += len(chunk)
                if offset > READ_MOST_BYTES:
                    raise OSError(errno.EFBIG, os.strerror(errno.EFBIG))
                whole, _, rest = (rest + chunk).rpartition(separator)
                if len(rest) > CHUNK_BYTES:
                    whole, rest = rest, b""
                if whole:
                    yield whole
            if rest:
                yield rest
        finally:
            os.close(descriptor)

    def read_end(self, name: str, most_bytes: int) -> bytes:
        """Return at most so many bytes of what a file ends with; raises OSError."""
        descriptor = self.open(name)
        try:
            size = os.fstat(descriptor).st_size
            return os.pread(descriptor, most_bytes, max(0, size - most_bytes))
        finally:
            os.close(descriptor)

    def read_again(self, name: str) -> bytes:
        """Return a file's bytes, keeping it open for the next time; raises OSError.

        A computer of many CPUs has more such files than may be open: the others are opened each
        time.
        """
        descriptor = self._held.get(name)
        if descriptor is None:
            if len(self._held) >= self.held_most:
                return self.read(name)
            descriptor = self.open(name)
            self._held[name] = descriptor
        try:
            return read_whole(descriptor)
        except OSError:
            # a processor taken offline and back has new files: open them again next time
            del self._held[name]
            os.close(descriptor)
            raise

    def parse(
        self,
        name: str,
        parser: Callable[[bytes], Parsed],
        subject: str,
        *,
        again: bool = False,
        may_be_absent: bool = False,
        may_be_silent: bool = False,
        most_bytes: int | None = None,
    ) -> Parsed | None:
        """Return a file's record, or None with the failure counted under the subject.

        ``again`` keeps the file open for the next time; ``may_be_absent`` is for what belongs to a
        process, which may end between any two reads, and for what not every machine has;
        ``may_be_silent`` is for a driver that answers with an error or a blank for 'unknown';
        ``most_bytes`` reads no more than the start of what a program may make as long as it likes.
        """
        try:
            if most_bytes is not None:
                return parser(self.read_start(name, most_bytes))
            return parser(self.read_again(name) if again else self.read(name))
        except OSError as error:
            reason = reason_of(error)
            if not (may_be_silent or (may_be_absent and reason == "absent")):
                self.note(subject, reason, name)
        except ParseError:
            if not may_be_silent:
                self.note(subject, "garbled", name)
        return None

    def parsed(
        self, data: bytes, parser: Callable[[bytes], Parsed], subject: str, name: str
    ) -> Parsed | None:
        """Return the record of what was read already, or None with the failure counted."""
        try:
            return parser(data)
        except ParseError:
            self.note(subject, "garbled", name)
            return None

    def listed(self, directory: str) -> list[str]:
        """Return the names in a directory in order; raises OSError."""
        return sorted(self.listing(directory))

    def listing(self, directory: str) -> list[str]:
        """Return the names in a directory as they come; raises OSError."""
        if self.is_this_computer:
            return os.listdir(self.full(directory))
        descriptor = self._open(directory, os.O_RDONLY | os.O_DIRECTORY)
        try:
            return os.listdir(descriptor)
        finally:
            os.close(descriptor)

    def links_in(self, directory: str) -> Iterable[tuple[str, str | None]]:
        """Yield each name in a directory with the target of the link; raises OSError.

        The target is None if it cannot be read, as when it was removed meanwhile.
        """
        for name in self.listing(directory):
            try:
                yield name, self.link(f"{directory}/{name}")
            except PermissionError:
                yield name, None

    def names(self, directory: str) -> list[str]:
        """Return the names in a directory in order, an empty list when it cannot be listed."""
        try:
            return self.listed(directory)
        except OSError:
            return []

    def dated_names(self, directory: str) -> list[str]:
        """Return the names in a directory of which it is known when they were changed."""
        return self.names(directory)

    def exists(self, name: str) -> bool:
        """Whether there is a file or a directory of that name."""
        if self.is_this_computer:
            return os.path.exists(self.full(name))  # noqa: PTH110 - called often
        try:
            os.close(self._open(name, os.O_PATH))
        except OSError:
            return False
        return True

    def accessed_s(self, name: str) -> float:
        """Return when something was used last, in seconds since 1970; raises OSError."""
        # nothing of a terminal is opened but its name
        descriptor = self._open(name, os.O_PATH | os.O_CLOEXEC)
        try:
            return os.fstat(descriptor).st_atime
        finally:
            os.close(descriptor)

    def changed_s(self, name: str) -> float | None:
        """Return when a file was changed last, in seconds since 1970; None if there is none."""
        try:
            descriptor = self._open(name, os.O_PATH | os.O_CLOEXEC)
        except OSError:
            return None
        try:
            return os.fstat(descriptor).st_mtime
        finally:
            os.close(descriptor)

    def size_bytes(self, name: str) -> int | None:
        """Return the size of what a name leads to; None if it cannot be had, and of a copy."""
        if not self.is_this_computer:
            return None
        try:
            return os.stat(self.full(name)).st_size  # noqa: PTH116 - the path is text
        except OSError:
            return None

    def link(self, name: str) -> str | None:
        """Return the target of a symbolic link; None when it is absent; raises PermissionError."""
        try:
            if self.is_this_computer:
                return text_of(os.readlink(os.fsencode(self.full(name))))
            descriptor = self._open(name, os.O_PATH | os.O_NOFOLLOW)
            try:
                return text_of(os.readlink(b"", dir_fd=descriptor))
            finally:
                os.close(descriptor)
        except PermissionError:
            raise
        except OSError:
            return None

    def link_end(self, name: str) -> str | None:
        """Return the last part of a symbolic link's target; None if it cannot be had."""
        try:
            target = self.link(name)
        except PermissionError:
            return None
        return target.rpartition("/")[2] if target else None

    def close(self) -> None:
        """Close every file that was kept open."""
        for descriptor in self._held.values():
            os.close(descriptor)
        self._held.clear()
        if self._directory is not None:
            os.close(self._directory)
            self._directory = None
