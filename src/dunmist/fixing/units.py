"""Acts on services and timers through the service manager's interface on D-Bus.

Source: org.freedesktop.systemd1(5). A person's own manager is on the bus of their session
(``/run/user/UID/bus``), which only answers that person; the administrator takes their user number
while connecting.
"""

import os
import pwd
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from dunmist.advice import Act, Target
from dunmist.computer import MANAGER, Root, Unanswered, call, connected, properties, system_bus
from dunmist.errors import Refused
from dunmist.fixing.journal import JournalLine, Result
from dunmist.series import ON_THE_WAY

if TYPE_CHECKING:
    from jeepney.io.blocking import DBusConnection

UNIT = "org.freedesktop.systemd1.Unit"
# starting and stopping may take as long as the service takes; a person may be asked for a password
ANSWER_S, SETTLE_S, LOOK_EVERY_S = 60.0, 15.0, 0.2
QUOTA = "CPUQuotaPerSecUSec"
NO_QUOTA = 2**64 - 1
US_PER_PERCENT = 10_000
# method, form and body of a call
Call = tuple[str, str, tuple[object, ...]]
RELOAD: Call = ("Reload", "", ())
REPLACE = "replace"  # what is queued for the unit gives way (systemd.unit(5))


def limit(act: Act, targets: list[Target], root: Root) -> Result:
    """Give a unit a quota of processor time; raises Refused."""
    del targets, root
    return _made(act, [_quota(act.unit, (act.percent or 0) * US_PER_PERCENT)])


def undo_limit(line: JournalLine, root: Root) -> str:
    """Take the quota away; raises Refused."""
    del root
    return _made(line.act, [_quota(line.act.unit, NO_QUOTA)]).text


def restart(act: Act, targets: list[Target], root: Root) -> Result:
    """Start a service anew; raises Refused."""
    del targets, root
    return _made(act, [("RestartUnit", "ss", (act.unit, REPLACE))])


def stop(act: Act, targets: list[Target], root: Root) -> Result:
    """Stop a service until somebody starts it; raises Refused."""
    del targets, root
    return _made(act, [_stop(act.unit)])


def undo_stop(line: JournalLine, root: Root) -> str:
    """Start it again; raises Refused."""
    del root
    return _made(line.act, [_start(line.act.unit)]).text


def disable(act: Act, targets: list[Target], root: Root) -> Result:
    """Keep a service from starting by itself; raises Refused."""
    del targets, root
    return _made(act, _disable(act.unit))


def undo_disable(line: JournalLine, root: Root) -> str:
    """Let it start by itself again; raises Refused."""
    del root
    return _made(line.act, _enable(line.act.unit)).text


def disable_timer(act: Act, targets: list[Target], root: Root) -> Result:
    """Keep a timer from starting anything; raises Refused."""
    del targets, root
    return _made(act, [*_disable(act.unit), _stop(act.unit)])


def undo_disable_timer(line: JournalLine, root: Root) -> str:
    """Set the timer going again; raises Refused."""
    del root
    return _made(line.act, [*_enable(line.act.unit), _start(line.act.unit)]).text


def _start(unit: str | None) -> Call:
    return ("StartUnit", "ss", (unit, REPLACE))


def _stop(unit: str | None) -> Call:
    return ("StopUnit", "ss", (unit, REPLACE))


def _disable(unit: str | None) -> list[Call]:
    return [("DisableUnitFiles", "asb", ([unit], False)), RELOAD]


def _enable(unit: str | None) -> list[Call]:
    return [("EnableUnitFiles", "asbb", ([unit], False, False)), RELOAD]


def check_manager(act: Act) -> None:
    """Raise Refused when the manager that has the unit cannot be asked."""
    with _bus_of(act):
        pass


def _quota(unit: str | None, us_per_s: int) -> Call:
    return ("SetUnitProperties", "sba(sv)", (unit, True, [(QUOTA, ("t", us_per_s))]))


def _made(act: Act, calls: list[Call]) -> Result:
    with _bus_of(act) as address:
        try:
            with connected(address) as bus:
                for method, form, body in calls:
                    call(bus, MANAGER, method, form, body, timeout_s=ANSWER_S)
                state = _settled(bus, act.unit or "")
                return Result(f"{act.unit} is now {state}", True)
        except Unanswered as error:
            raise Refused(
                f"the service manager did not do it for {act.unit}: {error}; ask for the "
                f"administrator's rights, or see 'systemctl status {act.unit}'"
            ) from error


def _settled(bus: "DBusConnection", unit: str) -> str:
    """Return the unit's state once it is no longer on the way to another one."""
    deadline_s = time.monotonic() + SETTLE_S
    (path,) = call(bus, MANAGER, "LoadUnit", "s", (unit,))
    while True:
        state = str(properties(bus, MANAGER[0], path, UNIT).get("ActiveState", "unknown"))
        if state not in ON_THE_WAY or time.monotonic() > deadline_s:
            return state
        time.sleep(LOOK_EVERY_S)


@contextmanager
def _bus_of(act: Act) -> Iterator[str]:
    """Give the address of the bus that the unit's manager is on, as the user it answers."""
    if act.user is None:
        address = system_bus()
        if address is None:
            raise Refused(
                f"no service manager runs on this computer, so nothing can be done to {act.unit}; "
                f"use the command of the step with whatever starts services here"
            )
        yield address
        return
    with as_user(act.user) as uid:
        place = Path(f"/run/user/{uid}/bus")
        if not place.exists():
            raise Refused(
                f"the service manager of {act.user} does not answer, so nothing can be done to "
                f"{act.unit}; are they logged in?"
            )
        yield f"unix:path={place}"


@contextmanager
def as_user(name: str) -> Iterator[int]:
    """Act with the rights of a user, which the administrator takes on; others have their own."""
    try:
        about = pwd.getpwnam(name)
    except KeyError as error:
        raise Refused(f"there is no user {name} on this computer; nothing was done") from error
    if os.geteuid() == about.pw_uid:
        yield about.pw_uid
        return
    if os.geteuid() != 0:
        raise Refused(f"this belongs to {name}, not to you; ask them, or run it as administrator")
    group, groups = os.getegid(), os.getgroups()
    os.setgroups(os.getgrouplist(name, about.pw_gid))
    os.setegid(about.pw_gid)
    os.seteuid(about.pw_uid)
    try:
        yield about.pw_uid
    finally:
        os.seteuid(0)
        os.setegid(group)
        os.setgroups(groups)
