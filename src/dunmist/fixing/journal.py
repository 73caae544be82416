"""The journal of acts: JSON Lines, one line before each act and one after, with what undoes it.

It lies in the user's state directory (XDG Base Directory Specification) and is only ever added to.
"""

import errno
import logging
import os
import stat
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from types import MappingProxyType
from typing import Literal, NamedTuple

import msgspec

from dunmist.advice import Act, Frees
from dunmist.errors import Refused
from dunmist.fixing.effect import Effect

# thread number to what it had before
Before = dict[int, int]


class UnitBefore(msgspec.Struct, frozen=True, omit_defaults=True):
    """State of a unit before an act; None is 'the manager did not say'."""

    active: str | None = None
    enabled: str | None = None
    quota_us_per_s: int | None = None
    has_quota_file: bool | None = None  # a limit that somebody had set at run time before


class Remembered(NamedTuple):
    """State that undoing an act needs, read before the act."""

    threads: Mapping[int, Before] = MappingProxyType({})
    unit: UnitBefore | None = None


class Result(NamedTuple):
    """Result of an act, and whether it is the intended one."""

    text: str
    worked: bool


class Outcome(NamedTuple):
    """Result of an act, with its number in the journal."""

    text: str
    worked: bool
    number: int


# command lines and names of other people stand in it
_LOG = logging.getLogger(__name__)
# it holds command lines, which are nobody else's business
MODE = 0o600
DIRECTORY_MODE = 0o700


class JournalLine(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """One line of the journal."""

    number: int
    at: str  # ISO 8601
    # begun without a later done: the program was cut off in between
    stage: Literal["begun", "done", "failed"]
    host: str | None
    boot_id: str | None  # numbers of processes count within this boot
    act: Act
    before: dict[int, dict[int, int]] = {}  # nice or I/O priority by process and thread
    unit_before: UnitBefore | None = None
    outcome: str = ""
    undoes: int | None = None  # number of the entry that this one reversed
    effect: Effect | None = None
    expected: Frees | None = None  # the expected saving of the step
    freed: float | None = None  # the measured saving, None if it was not measured


def read_journal(path: Path) -> list[JournalLine]:
    """Return all lines, the oldest first; raises Refused when one cannot be read.

    A last line without an end was torn while it was written: no act followed it.
    """
    try:
        descriptor = _opened(path, os.O_RDONLY)
    except FileNotFoundError:
        return []
    with os.fdopen(descriptor, "rb") as stream:
        *lines, torn = stream.read().split(b"\n")
    if torn:
        _LOG.warning("%s: its last line was never finished and is passed over", path)
    entries = []
    for number, line in enumerate(lines, start=1):
        try:
            entries.append(msgspec.json.decode(line, type=JournalLine))
        except (msgspec.DecodeError, msgspec.ValidationError) as error:
            raise Refused(
                f"{path}: line {number} is not as this program writes it ({error}); move the file "
                f"away to go on"
            ) from error
    return entries


def newest(entries: list[JournalLine]) -> dict[int, JournalLine]:
    """Return the last line of each act by its number, in order."""
    return {entry.number: entry for entry in entries}


def undone(entries: list[JournalLine]) -> set[int]:
    """Return the numbers of acts that were reversed."""
    return {
        entry.undoes for entry in newest(entries).values() if entry.undoes and entry.stage == "done"
    }


def append(path: Path, entry: JournalLine) -> None:
    """Add a line and have it on the disk before returning, whole or not at all; raises Refused."""
    line = msgspec.json.encode(entry) + b"\n"
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=DIRECTORY_MODE)
        descriptor = _opened(path, os.O_RDWR | os.O_APPEND | os.O_CREAT)
        try:
            # a line cut by a full disk or a crash is dropped: no act followed it
            size = os.pread(descriptor, os.fstat(descriptor).st_size, 0).rfind(b"\n") + 1
            os.ftruncate(descriptor, size)
            if os.write(descriptor, line) != len(line):
                os.ftruncate(descriptor, size)
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
    except OSError as error:
        raise Refused(
            f"{path}: {error.strerror}, so the act could not be written down; check the directory"
        ) from error


def _opened(path: Path, flags: int) -> int:
    """Open the journal, which must be a plain file of one's own that no link leads to.

    A user who could choose another file would choose what is undone. Raises OSError and Refused.
    """
    try:
        descriptor = os.open(path, flags | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, MODE)
    except OSError as error:
        if error.errno != errno.ELOOP:
            raise
        raise Refused(
            f"{path}: is a link, and what it leads to is not trusted; move it away"
        ) from error
    about = os.fstat(descriptor)
    if not stat.S_ISREG(about.st_mode) or about.st_uid != os.geteuid():
        os.close(descriptor)
        raise Refused(
            f"{path}: not a regular file that you own, so it is not trusted; move it away"
        )
    return descriptor


def next_number(entries: list[JournalLine]) -> int:
    """Return the number of the next act."""
    return max((entry.number for entry in entries), default=0) + 1


def now_text() -> str:
    """Return the timestamp as it stands in the journal."""
    return datetime.now(UTC).isoformat(timespec="seconds")
