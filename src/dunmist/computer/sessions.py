"""Who is logged in: utmp(5), and how long their terminals have been idle.

A graphical session has a display instead of a terminal. A terminal was last used when it was last
read (its access time, as w(1) has it).
"""

import struct
from collections.abc import Iterator
from typing import NamedTuple

import msgspec

from dunmist.computer.parsing import ParseError, text_of
from dunmist.computer.root import Root

SUBJECT = "sessions"
USER_PROCESS = 7
# type, pid, line, id, user, host, exit, session, seconds, microseconds, address, unused
_SHORT = struct.Struct("=h2xi32s4s32s256s4xiii16s20x")
_LONG = struct.Struct("=h2xi32s4s32s256s4xqqq16s20x")  # where time has always had 64 bits


class Session(msgspec.Struct, frozen=True, omit_defaults=True):
    """One login. ``since_s`` is seconds since 1970, ``idle_s`` None where it cannot be told."""

    user: str
    terminal: str | None = None
    origin: str | None = None
    since_s: float | None = None
    idle_s: float | None = None
    pid: int | None = None
    graphical: bool = False
    active: bool | None = None


class _Login(NamedTuple):
    user: str
    line: str
    host: str
    since_s: int
    pid: int


def parse_utmp(data: bytes) -> list[_Login]:
    """Return the logins of people; raises ParseError."""
    layout = next((layout for layout in (_SHORT, _LONG) if len(data) % layout.size == 0), None)
    if layout is None:
        raise ParseError("/run/utmp", f"{len(data)} bytes are no whole records", data[:8])
    return list(_logins(data, layout))


def _logins(data: bytes, layout: struct.Struct) -> Iterator[_Login]:
    for kind, pid, line, _, user, host, _, seconds, _, _ in layout.iter_unpack(data):
        if kind == USER_PROCESS and user.strip(b"\0"):
            yield _Login(_text(user), _text(line), _text(host), seconds, pid)


def _text(field: bytes) -> str:
    return text_of(field.partition(b"\0")[0])


def read_sessions(root: Root, now_s: float) -> list[Session]:
    """Return the logins that are still there; ``now_s`` is seconds since 1970."""
    name = next((name for name in ("run/utmp", "var/run/utmp") if root.exists(name)), None)
    if name is None:
        root.note(SUBJECT, "absent")
        return []
    logins = root.parse(name, parse_utmp, SUBJECT) or []
    return [
        _session(root, login, now_s)
        for login in logins
        # a login that was not taken out of the file has no process any more
        if root.exists(f"proc/{login.pid}")
    ]


def _session(root: Root, login: _Login, now_s: float) -> Session:
    graphical = login.line.startswith(":")
    return Session(
        user=login.user,
        terminal=login.line or None,
        origin=login.host or None,
        since_s=float(login.since_s),
        idle_s=None if graphical else _idle_s(root, login.line, now_s),
        pid=login.pid,
        graphical=graphical,
    )


def _idle_s(root: Root, line: str, now_s: float) -> float | None:
    if ".." in line:
        return None
    try:
        used_s = root.accessed_s(f"dev/{line}")
    except OSError:
        return None
    return max(0.0, now_s - used_s)
