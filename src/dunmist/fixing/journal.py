"""The journal of acts: JSON Lines, one line before each act and one after, with what undoes it.

It lies in the user's state directory (XDG Base Directory Specification) and is only ever added to.
"""

import os
from datetime import UTC, datetime
from pathlib import Path
from typing import Literal, NamedTuple

import msgspec

from dunmist.advice import Act
from dunmist.errors import Refused

# thread number to what it had before
Before = dict[int, int]


class Result(NamedTuple):
    """What came of an act, whether that is what it was for, and what each process had before."""

    text: str
    worked: bool
    before: dict[int, Before] | None = None


class Outcome(NamedTuple):
    """The same, with the number under which it stands in the journal."""

    text: str
    worked: bool
    number: int


# command lines and names of other people stand in it
MODE = 0o600


class JournalLine(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """One line. ``before`` maps process numbers to what their threads had.

    ``undoes`` is the number of the entry that this one reversed; ``stage`` begun without a later
    done of the same number means that the program was cut off in between.
    """

    number: int
    at: str
    stage: Literal["begun", "done", "failed"]
    host: str | None
    boot_id: str | None
    act: Act
    before: dict[int, dict[int, int]] = {}
    outcome: str = ""
    undoes: int | None = None


def read_journal(path: Path) -> list[JournalLine]:
    """Return all lines, the oldest first; raises Refused when one cannot be read."""
    if not path.exists():
        return []
    entries = []
    for number, line in enumerate(path.read_bytes().splitlines(), start=1):
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
    return {one.undoes for one in newest(entries).values() if one.undoes and one.stage == "done"}


def append(path: Path, entry: JournalLine) -> None:
    """Add a line and have it on the disk before returning; raises Refused."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, MODE)
        try:
            os.write(descriptor, msgspec.json.encode(entry) + b"\n")
            # an act may bring the computer down with it
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
    except OSError as error:
        raise Refused(
            f"{path}: {error.strerror}, so the act could not be written down; see to the place"
        ) from error


def next_number(entries: list[JournalLine]) -> int:
    """Return the number of the next act."""
    return max((entry.number for entry in entries), default=0) + 1


def now_text() -> str:
    """Return the moment as it stands in the journal."""
    return datetime.now(UTC).isoformat(timespec="seconds")
