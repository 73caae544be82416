"""Read logged-in users from utmp(5), and the idle time of their terminals.

A graphical session has a display instead of a terminal. A terminal was last used when it was last
read (its access time, as w(1) has it).
"""

import msgspec

from dunmist.computer.root import Root
from dunmist.computer.utmp import LoginRecord, parse_login_records

SUBJECT = "sessions"
# kind of the record of a login, utmp(5)
USER_PROCESS = 7


class Session(msgspec.Struct, frozen=True, omit_defaults=True):
    """One login."""

    user: str
    terminal: str | None = None
    origin: str | None = None  # host or display it came from
    since_s: float | None = None  # since 1970
    idle_s: float | None = None  # since the last key; None if it is unknown
    pid: int | None = None  # leader of the session
    graphical: bool = False
    active: bool | None = None


def read_sessions(root: Root, now_s: float) -> list[Session]:
    """Return the logins that are still there; ``now_s`` is seconds since 1970."""
    name = next((name for name in ("run/utmp", "var/run/utmp") if root.exists(name)), None)
    if name is None:
        root.note(SUBJECT, "absent")
        return []
    records = root.parse(name, parse_login_records, SUBJECT) or []
    return [
        _session(root, login, now_s)
        for login in records
        # a login that was not taken out of the file has no process any more
        if login.kind == USER_PROCESS and login.user and root.exists(f"proc/{login.pid}")
    ]


def _session(root: Root, login: LoginRecord, now_s: float) -> Session:
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
