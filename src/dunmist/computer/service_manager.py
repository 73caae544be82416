"""Services, timers and logins as the service manager answers over D-Bus.

Sources: org.freedesktop.systemd1(5), org.freedesktop.login1(5), the D-Bus Specification. Only
questions are asked that every user may ask, each with a time limit. The library for the protocol
is imported here and only where there is a bus.
"""

import os
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import msgspec

from dunmist.computer.sessions import Session

if TYPE_CHECKING:
    from jeepney.io.blocking import DBusConnection

SYSTEM_BUS = "/run/dbus/system_bus_socket"
# a manager that takes longer is busy, and is asked no more
TIMEOUT_S = 2.0
MANAGER = (
    "org.freedesktop.systemd1",
    "/org/freedesktop/systemd1",
    "org.freedesktop.systemd1.Manager",
)
LOGINS = ("org.freedesktop.login1", "/org/freedesktop/login1", "org.freedesktop.login1.Manager")
UNIT, SERVICE = "org.freedesktop.systemd1.Unit", "org.freedesktop.systemd1.Service"
TIMER, SESSION = "org.freedesktop.systemd1.Timer", "org.freedesktop.login1.Session"
KINDS = (".service", ".timer")
PATTERNS = ["*.service", "*.timer"]
# units in these states are asked for details: they are in trouble, or on the way to another state
CHANGING = ("failed", "activating", "deactivating", "reloading")
# time limits of all questions about single units together, and of one question that shows a slow
# computer
PATIENCE_S, SLOW_ANSWER_S = 1.0, 0.25
US_PER_S = 1e6


Answer = TypeVar("Answer")


class Unit(msgspec.Struct, frozen=True, omit_defaults=True):
    """A service or a timer; None is 'not known'."""

    name: str
    about: str | None = None
    active: str | None = None  # the manager's word (systemd(1))
    sub: str | None = None  # finer word, as start-post
    starts: str | None = None  # enabled, disabled, static and so on
    restarts: int | None = None  # automatic ones since a person started it last
    since_s: float | None = None  # of its last change, since 1970
    result: str | None = None  # success, or how it failed
    triggers: str | None = None  # the service that a timer starts
    schedule: str | None = None
    last_run_s: float | None = None
    next_run_s: float | None = None


class Unanswered(Exception):
    """The bus or the manager did not answer; says why."""


def system_bus() -> str | None:
    """Return the address of the system bus, None when there is none."""
    address = os.environ.get("DBUS_SYSTEM_BUS_ADDRESS")
    if address:
        return address
    return f"unix:path={SYSTEM_BUS}" if Path(SYSTEM_BUS).exists() else None


def read_units(address: str, *, with_timers: bool) -> list[Unit]:
    """Return every loaded service and timer, with what matters of those that matter.

    Whether a unit starts by itself is in the files (``service_files``): the manager would read all
    of them to say so. Details are asked for as long as it answers quickly. Raises Unanswered.
    """
    with connected(address) as bus:
        (listed,) = call(bus, MANAGER, "ListUnitsByPatterns", "asas", ([], PATTERNS))
        asked = Questions(bus)
        return [_unit(asked, row, with_timers=with_timers) for row in listed if row[2] == "loaded"]


def read_logins(address: str) -> list[Session]:
    """Return the sessions of people; raises Unanswered."""
    with connected(address) as bus:
        (rows,) = call(bus, LOGINS, "ListSessions")
        sessions = [_session(bus, str(path)) for _, _, _, _, path in rows]
    return [session for session in sessions if session]


class Questions:
    """Questions about single units, until the manager has taken too long to answer them.

    On a slow computer the answers cost it more than they are worth to us.
    """

    def __init__(self, bus: "DBusConnection", patience_s: float | None = None) -> None:
        self._bus = bus
        self._patience_s = PATIENCE_S if patience_s is None else patience_s
        self._left_s = self._patience_s

    @property
    def are_answered(self) -> bool:
        """Whether all that was asked so far was asked in time."""
        return self._left_s > 0

    def all_of(self, path: str, interface: str) -> dict[str, Any]:
        """Return all properties of one interface of a unit; nothing where it is not answered."""
        return self._asked(lambda: properties(self._bus, MANAGER[0], path, interface)) or {}

    def one_of(self, path: str, interface: str, word: str) -> Any:  # noqa: ANN401 - as the bus has it
        """Return one property of a unit, None if it is not answered."""
        target = (MANAGER[0], path, "org.freedesktop.DBus.Properties")
        answer = self._asked(lambda: call(self._bus, target, "Get", "ss", (interface, word)))
        return answer[0][1] if answer else None

    def _asked(self, question: Callable[[], Answer]) -> Answer | None:
        from jeepney.wrappers import DBusErrorResponse

        if self._left_s <= 0:
            return None
        began_s = time.monotonic()
        try:
            return question()
        except DBusErrorResponse:
            return None  # it went away since it was listed, or this manager does not know the word
        except (OSError, EOFError):
            # too slow, or gone: what was listed is worth having all the same
            self._left_s = 0.0
            return None
        finally:
            took_s = time.monotonic() - began_s
            self._left_s -= self._patience_s if took_s > SLOW_ANSWER_S else took_s


def _unit(asked: Questions, row: tuple[Any, ...], *, with_timers: bool) -> Unit:
    name, about, _, active, sub, _, path = row[:7]
    more: dict[str, Any] = {}
    if name.endswith(".timer"):
        if with_timers:
            of_timer = asked.all_of(path, TIMER)
            more = {
                "triggers": of_timer.get("Unit"),
                "last_run_s": _timestamp_s(of_timer.get("LastTriggerUSec")),
                "next_run_s": _timestamp_s(of_timer.get("NextElapseUSecRealtime")),
            }
    elif active in CHANGING:
        of_service = asked.all_of(path, SERVICE)
        more = {
            "since_s": _timestamp_s(asked.one_of(path, UNIT, "StateChangeTimestamp")),
            "restarts": of_service.get("NRestarts"),
            "result": of_service.get("Result"),
        }
    elif sub == "running":
        # a service that exits and is started again is running when it is asked for
        more = {"restarts": asked.one_of(path, SERVICE, "NRestarts")}
    return Unit(name=name, about=about or None, active=active, sub=sub, **more)


def _session(bus: "DBusConnection", path: str) -> Session | None:
    words = properties(bus, LOGINS[0], path, SESSION)
    if words.get("Class") != "user":
        return None
    idle_since_s = _timestamp_s(words.get("IdleSinceHint")) if words.get("IdleHint") else None
    since_s = _timestamp_s(words.get("Timestamp"))
    display, kind = words.get("Display"), words.get("Type")
    return Session(
        user=str(words.get("Name", "")),
        terminal=words.get("TTY") or display or None,
        origin=words.get("RemoteHost") or None,
        since_s=since_s,
        # the service manager gives a point in time, the reader of sessions turns it into a duration
        idle_s=idle_since_s,
        pid=words.get("Leader"),
        graphical=kind in ("x11", "wayland", "mir"),
        active=words.get("Active"),
    )


def _timestamp_s(value: object) -> float | None:
    # 0 and the greatest number mean 'never'
    return value / US_PER_S if isinstance(value, int) and 0 < value < 2**63 else None


@contextmanager
def connected(address: str, *, with_descriptors: bool = False) -> Iterator["DBusConnection"]:
    """Give a connection to a bus; raises Unanswered for whatever goes wrong on it.

    ``with_descriptors`` lets files be handed over on it.
    """
    from jeepney.bus import get_bus
    from jeepney.io.blocking import DBusConnection, prep_socket
    from jeepney.wrappers import DBusErrorResponse

    try:
        # the library leaves the socket open where the bus breaks off at the greeting
        with (
            prep_socket(get_bus(address), with_descriptors, TIMEOUT_S) as opened,
            DBusConnection(opened, with_descriptors) as bus,
        ):
            yield bus
    except (OSError, EOFError, ValueError, KeyError, DBusErrorResponse) as error:
        raise Unanswered(str(error)) from error


def call(
    bus: "DBusConnection",
    target: tuple[str, str, str],
    method: str,
    form: str = "",
    body: tuple[object, ...] = (),
    *,
    timeout_s: float = TIMEOUT_S,
) -> tuple[Any, ...]:
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
