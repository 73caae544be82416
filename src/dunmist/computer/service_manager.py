"""Services, timers and logins as the service manager answers over D-Bus.

Sources: org.freedesktop.systemd1(5), org.freedesktop.login1(5), the D-Bus Specification. Only
questions are asked that every user may ask, each with a time limit. The library for the protocol
is imported here and only where there is a bus.
"""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from dunmist.computer.sessions import Session

if TYPE_CHECKING:
    from jeepney.io.blocking import DBusConnection

SYSTEM_BUS = "/run/dbus/system_bus_socket"
TIMEOUT_S = 2.0
MANAGER = ("org.freedesktop.systemd1", "/org/freedesktop/systemd1",
           "org.freedesktop.systemd1.Manager")  # fmt: skip
LOGINS = ("org.freedesktop.login1", "/org/freedesktop/login1",
          "org.freedesktop.login1.Manager")  # fmt: skip
UNIT, SERVICE = "org.freedesktop.systemd1.Unit", "org.freedesktop.systemd1.Service"
TIMER, SESSION = "org.freedesktop.systemd1.Timer", "org.freedesktop.login1.Session"
KINDS = (".service", ".timer")
US_PER_S = 1e6


class Unit(msgspec.Struct, frozen=True, omit_defaults=True):
    """A service or a timer; None is 'not known'.

    ``active`` and ``sub`` are the manager's words for its state (systemd(1)), ``starts`` its word
    for whether it starts by itself: enabled, disabled, static and so on. ``restarts`` counts
    automatic restarts since it was last started by hand. Moments are seconds since 1970.
    """

    name: str
    about: str | None = None
    active: str | None = None
    sub: str | None = None
    starts: str | None = None
    main_pid: int | None = None
    restarts: int | None = None
    since_s: float | None = None
    result: str | None = None
    triggers: str | None = None
    schedule: str | None = None
    last_run_s: float | None = None
    next_run_s: float | None = None
    group: str | None = None


class Unanswered(Exception):
    """The bus or the manager did not answer; says why."""


def system_bus() -> str | None:
    """Return the address of the system bus, None when there is none."""
    address = os.environ.get("DBUS_SYSTEM_BUS_ADDRESS")
    if address:
        return address
    return f"unix:path={SYSTEM_BUS}" if Path(SYSTEM_BUS).exists() else None


def read_units(address: str) -> list[Unit]:
    """Return every loaded or enabled service and timer; raises Unanswered."""
    with connected(address) as bus:
        (listed,) = call(bus, MANAGER, "ListUnits")
        (files,) = call(bus, MANAGER, "ListUnitFiles")
        starts = {str(path).rpartition("/")[2]: str(state) for path, state in files}
        units = [
            _unit(bus, row, starts.get(row[0]))
            for row in listed
            if row[0].endswith(KINDS) and row[2] == "loaded"
        ]
    known = {unit.name for unit in units}
    asleep = [
        Unit(name=name, active="inactive", starts=state)
        for name, state in sorted(starts.items())
        if name.endswith(KINDS) and name not in known and state.startswith("enabled")
    ]
    return units + asleep


def read_logins(address: str) -> list[Session]:
    """Return the sessions of people; raises Unanswered."""
    with connected(address) as bus:
        (rows,) = call(bus, LOGINS, "ListSessions")
        found = [_session(bus, str(path)) for _, _, _, _, path in rows]
    return [session for session in found if session]


def _unit(bus: "DBusConnection", row: tuple[Any, ...], starts: str | None) -> Unit:
    name, about, _, active, sub, _, path = row[:7]
    more: dict[str, Any] = {}
    if active != "inactive":
        of_unit = properties(bus, MANAGER[0], path, UNIT)
        more["since_s"] = _moment_s(of_unit.get("StateChangeTimestamp"))
    if name.endswith(".timer"):
        of_timer = properties(bus, MANAGER[0], path, TIMER)
        more |= {
            "triggers": of_timer.get("Unit"),
            "last_run_s": _moment_s(of_timer.get("LastTriggerUSec")),
            "next_run_s": _moment_s(of_timer.get("NextElapseUSecRealtime")),
        }
    elif active != "inactive":
        of_service = properties(bus, MANAGER[0], path, SERVICE)
        more |= {
            "main_pid": of_service.get("MainPID") or None,
            "restarts": of_service.get("NRestarts"),
            "result": of_service.get("Result"),
            "group": of_service.get("ControlGroup") or None,
        }
    return Unit(name=name, about=about or None, active=active, sub=sub, starts=starts, **more)


def _session(bus: "DBusConnection", path: str) -> Session | None:
    words = properties(bus, LOGINS[0], path, SESSION)
    if words.get("Class") != "user":
        return None
    idle_since_s = _moment_s(words.get("IdleSinceHint")) if words.get("IdleHint") else None
    since_s = _moment_s(words.get("Timestamp"))
    display, kind = words.get("Display"), words.get("Type")
    return Session(
        user=str(words.get("Name", "")),
        terminal=words.get("TTY") or display or None,
        origin=words.get("RemoteHost") or None,
        since_s=since_s,
        # the service manager gives the moment, the reader of sessions turns it into a stretch
        idle_s=idle_since_s,
        pid=words.get("Leader"),
        graphical=kind in ("x11", "wayland", "mir"),
        active=words.get("Active"),
    )


def _moment_s(value: object) -> float | None:
    # 0 and the greatest number mean 'never'
    return value / US_PER_S if isinstance(value, int) and 0 < value < 2**63 else None


@contextmanager
def connected(address: str) -> Iterator["DBusConnection"]:
    """Give a connection to a bus; raises Unanswered for whatever goes wrong on it."""
    from jeepney.io.blocking import open_dbus_connection
    from jeepney.wrappers import DBusErrorResponse

    try:
        with open_dbus_connection(bus=address) as bus:
            yield bus
    except (OSError, EOFError, ValueError, KeyError, DBusErrorResponse) as error:
        raise Unanswered(str(error)) from error


def call(
    bus: "DBusConnection", target: tuple[str, str, str], method: str, form: str = "",
    body: tuple[object, ...] = (), *, timeout_s: float = TIMEOUT_S,
) -> tuple[Any, ...]:  # fmt: skip
    """Return the answer to one call; raises what ``connected`` turns into Unanswered."""
    from jeepney import DBusAddress, new_method_call
    from jeepney.wrappers import unwrap_msg

    name, path, interface = target
    message = new_method_call(DBusAddress(path, name, interface), method, form or None, body)
    answer: tuple[Any, ...] = unwrap_msg(bus.send_and_get_reply(message, timeout=timeout_s))
    return answer


def properties(bus: "DBusConnection", name: str, path: str, interface: str) -> dict[str, Any]:
    """Return all properties of one interface of an object by name."""
    target = (name, path, "org.freedesktop.DBus.Properties")
    (words,) = call(bus, target, "GetAll", "s", (interface,))
    # each value comes with its type
    return {str(word): value for word, (_, value) in words.items()}
