"""File locks that somebody waits for, and who holds them: proc_locks(5)."""

import re

import msgspec

from dunmist.computer.parsing import ParseError, lines_of

# a request that waits behind another waiting one is indented by one more blank (fs/locks.c)
_LOCK = re.compile(rb"^(\d{1,10}): ( *-> )?[A-Z]+\s+\S+\s+\S+\s+(-?\d{1,10}) ")


class LockWait(msgspec.Struct, frozen=True):
    """The process numbers of one that waits for a lock, and of one that holds it."""

    waiter: int
    holder: int


def parse_locks(data: bytes) -> list[LockWait]:
    """Return each lock that is waited for, with holder and waiters; raises ParseError."""
    holders: dict[bytes, int] = {}
    waits = []
    for line in lines_of(data):
        match = _LOCK.match(line)
        if not match:
            raise ParseError("/proc/locks", "expected a lock", line)
        number, blocked, pid = match[1], match[2], int(match[3])
        if not blocked:
            holders[number] = pid
        elif number in holders and pid > 0 < holders[number]:
            waits.append(LockWait(pid, holders[number]))
    return waits
