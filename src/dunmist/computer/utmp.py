"""The records of utmp(5): logins, starts, changes of the run level."""

import struct
from typing import NamedTuple

from dunmist.computer.parsing import ParseError, text_of

# type, pid, line, id, user, host, exit, session, seconds, microseconds, address, unused
_SHORT = struct.Struct("=h2xi32s4s32s256s4xiii16s20x")
# for architectures with a 64-bit time from the start
_LONG = struct.Struct("=h2xi32s4s32s256s4xqqq16s20x")


class LoginRecord(NamedTuple):
    """One record; ``since_s`` is seconds since 1970."""

    kind: int
    pid: int
    line: str
    user: str
    host: str
    since_s: int


def parse_login_records(data: bytes) -> list[LoginRecord]:
    """Return all records in their order; raises ParseError."""
    layout = next((layout for layout in (_SHORT, _LONG) if len(data) % layout.size == 0), None)
    if layout is None:
        raise ParseError("utmp(5)", f"{len(data)} bytes are no whole records", data[:8])
    return [
        LoginRecord(kind, pid, _text(line), _text(user), _text(host), seconds)
        for kind, pid, line, _, user, host, _, seconds, _, _ in layout.iter_unpack(data)
    ]


def _text(field: bytes) -> str:
    return text_of(field.partition(b"\0")[0])
