"""Acts on services and timers through the service manager's interface on D-Bus.

Source: org.freedesktop.systemd1(5). A person's own manager is on the bus of their session
(``/run/user/UID/bus``), which only answers that person; the administrator takes their user number
while connecting.
"""

import os
import pwd
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from dunmist.advice import Act, Target
from dunmist.computer import MANAGER, Root, Unanswered, call, connected, properties, system_bus
from dunmist.errors import Refused
from dunmist.fixing.drop_ins import quota_drop_in, remove_drop_in
from dunmist.fixing.journal import JournalLine, Remembered, Result, UnitBefore
from dunmist.series import ON_THE_WAY

if TYPE_CHECKING:
    from jeepney.io.blocking import DBusConnection

UNIT = "org.freedesktop.systemd1.Unit"
# the interface that has the quota of each kind of unit
KINDS = {"service": "Service", "scope": "Scope", "slice": "Slice"}
# starting and stopping may take as long as the service takes; a person may be asked for a password
ANSWER_S, SETTLE_S, REST_S, LOOK_EVERY_S = 60.0, 15.0, 2.0, 0.2
QUOTA, DROP_INS = "CPUQuotaPerSecUSec", "DropInPaths"
# CPUQuotaPerSecUSec of a unit without a quota
NO_QUOTA = 2**64 - 1
US_PER_PERCENT = 10_000
# method, form and body of a call
Call = tuple[str, str, tuple[object, ...]]
RELOAD: Call = ("Reload", "", ())
REPLACE = "replace"  # a queued job of the unit gives way (systemd.unit(5))


class ExpectedState(NamedTuple):
    """State of a unit after a successful act."""

    word: str
    values: tuple[object, ...]
    said: str


RUNNING = ExpectedState("ActiveState", ("active",), "running")
STOPPED = ExpectedState("ActiveState", ("inactive", "failed"), "stopped")
SWITCHED_ON = ExpectedState("UnitFileState", ("enabled", "enabled-runtime"), "switched on")
SWITCHED_OFF = ExpectedState(
    "UnitFileState", ("disabled", "static", "indirect", ""), "switched off"
)


def remember(act: Act, targets: list[Target], root: Root) -> Remembered:
    """Return the state of a unit; raises Refused when its manager does not say."""
    del targets, root
    with _asked(act) as bus:
        words = _words(bus, act.unit or "")
    quota, drop_ins = words.get(QUOTA), words.get(DROP_INS)
    return Remembered(
        unit=UnitBefore(
            words.get("ActiveState"),
            words.get("UnitFileState"),
            quota if isinstance(quota, int) else None,
            None if drop_ins is None else _own_drop_in(act, drop_ins) is not None,
        )
    )


def limit(act: Act, targets: list[Target], root: Root) -> Result:
    """Give a unit a quota of CPU time; raises Refused."""
    del targets, root
    return _limited(act, (act.percent or 0) * US_PER_PERCENT)


def undo_limit(line: JournalLine, root: Root) -> str:
    """Give the unit the quota that it had, or none; raises Refused."""
    del root
    known = _known(line)
    before = known.quota_us_per_s
    if before is None:
        raise Refused(_unknown(line))
    done = _undone(_limited(line.act, before))
    if known.has_quota_file is False:
        _forget_limit(line.act, before)
    return done


def restart(act: Act, targets: list[Target], root: Root) -> Result:
    """Restart a service; raises Refused."""
    del targets, root
    return _made(act, [("RestartUnit", "ss", (act.unit, REPLACE))], RUNNING)


def stop(act: Act, targets: list[Target], root: Root) -> Result:
    """Stop a service until somebody starts it; raises Refused."""
    del targets, root
    return _made(act, [_stop(act.unit)], STOPPED)


def undo_stop(line: JournalLine, root: Root) -> str:
    """Start it again, if it ran; raises Refused."""
    del root
    if _known(line).active in STOPPED.values:
        return f"{line.act.unit} was not running before, so it stays as it is"
    return _undone(_made(line.act, [_start(line.act.unit)], RUNNING))


def disable(act: Act, targets: list[Target], root: Root) -> Result:
    """Keep a service from starting by itself; raises Refused."""
    del targets, root
    return _made(act, _disable(act.unit), SWITCHED_OFF)


def undo_disable(line: JournalLine, root: Root) -> str:
    """Let it start by itself again, if it did; raises Refused."""
    del root
    if _known(line).enabled not in SWITCHED_ON.values:
        return f"{line.act.unit} did not start by itself before, so it stays as it is"
    return _undone(_made(line.act, _enable(line.act.unit), SWITCHED_ON))


def disable_timer(act: Act, targets: list[Target], root: Root) -> Result:
    """Keep a timer from starting anything; raises Refused."""
    del targets, root
    return _made(act, [*_disable(act.unit), _stop(act.unit)], SWITCHED_OFF, STOPPED)


def undo_disable_timer(line: JournalLine, root: Root) -> str:
    """Set the timer going again as far as it was; raises Refused."""
    del root
    before, unit = _known(line), line.act.unit
    calls, expected = [], []
    if before.enabled in SWITCHED_ON.values:
        calls += _enable(unit)
        expected.append(SWITCHED_ON)
    if before.active not in STOPPED.values:
        calls.append(_start(unit))
        expected.append(RUNNING)
    return _undone(_made(line.act, calls, *expected))


def switch_on(act: Act) -> Result:
    """Have a unit file that is new taken in, started, and started by itself from now on."""
    calls = [RELOAD, *_enable(act.unit), _start(act.unit)]
    return _made(act, calls, SWITCHED_ON, RUNNING)


def switch_off(act: Act) -> str:
    """Stop a unit and keep it from starting by itself; raises Refused."""
    return _undone(_made(act, [*_disable(act.unit), _stop(act.unit)], SWITCHED_OFF, STOPPED))


def reload(act: Act) -> None:
    """Have the manager read its unit files again; raises Refused."""
    with _asked(act) as bus:
        call(bus, MANAGER, *RELOAD, timeout_s=ANSWER_S)


@contextmanager
def as_user_of(act: Act) -> Iterator[None]:
    """Act with the rights of the person whose manager has the unit, if it is a person's."""
    if act.user is None:
        yield
        return
    with as_user(act.user):
        yield


def _known(line: JournalLine) -> UnitBefore:
    """Return the state of the unit before an act; raises Refused where nobody wrote it down."""
    if line.unit_before is None:
        raise Refused(_unknown(line))
    return line.unit_before


def _unknown(line: JournalLine) -> str:
    return (
        f"what {line.act.unit} was before act {line.number} was not written down, so nothing was "
        f"changed; see 'systemctl status {line.act.unit}'"
    )


def _undone(result: Result) -> str:
    """Return the result of an undo; raises Refused when it is not what it was for."""
    if not result.worked:
        raise Refused(f"not undone: {result.text}")
    return result.text


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


def _limited(act: Act, us_per_s: int) -> Result:
    quota = (QUOTA, ("t", us_per_s))
    said = "without a quota" if us_per_s == NO_QUOTA else f"at {us_per_s // US_PER_PERCENT} %"
    given: Call = ("SetUnitProperties", "sba(sv)", (act.unit, True, [quota]))
    return _made(act, [given], ExpectedState(QUOTA, (us_per_s,), said))


def _own_drop_in(act: Act, paths: Iterable[object]) -> str | None:
    uid = pwd.getpwnam(act.user).pw_uid if act.user is not None else None
    return quota_drop_in(paths, act.unit or "", uid)


def _forget_limit(act: Act, us_per_s: int) -> None:
    """Remove what the limit left behind, so that later changes of the unit have effect again."""
    with _asked(act) as bus:
        path = _own_drop_in(act, _words(bus, act.unit or "").get(DROP_INS, ()))
        if path is not None:
            # with the rights of whose manager it is: what it says leads nobody else astray
            remove_drop_in(path)
    if path is not None:
        _undone(_made(act, [RELOAD], ExpectedState(QUOTA, (us_per_s,), "as it was")))


def _made(act: Act, calls: list[Call], *expected: ExpectedState) -> Result:
    """Make the calls and return what the unit is then, and whether that was expected."""
    with _asked(act) as bus:
        for method, form, body in calls:
            call(bus, MANAGER, method, form, body, timeout_s=ANSWER_S)
        words = _settled(bus, act.unit or "", expected)
    missing = [state for state in expected if words.get(state.word) not in state.values]
    if not missing:
        said = " and ".join(state.said for state in expected) or str(
            words.get("ActiveState", "unknown")
        )
        return Result(f"{act.unit} is now {said}", True)
    missing_words = ", ".join(
        f"{state.word} is {words.get(state.word, 'unknown')}" for state in missing
    )
    hoped = " and ".join(state.said for state in missing)
    return Result(f"{act.unit} is not {hoped}: {missing_words}", False)


@contextmanager
def _asked(act: Act) -> Iterator["DBusConnection"]:
    """Give a connection to the manager that has the unit; raises Refused."""
    with _bus_of(act) as address:
        try:
            with connected(address) as bus:
                yield bus
        except Unanswered as error:
            raise Refused(
                f"the service manager did not do it for {act.unit}: {error}; ask for the "
                f"administrator's rights, or see 'systemctl status {act.unit}'"
            ) from error


def _words(bus: "DBusConnection", unit: str) -> dict[str, Any]:
    """Return the state of a unit from the manager, with the quota if its kind has one."""
    (path,) = call(bus, MANAGER, "LoadUnit", "s", (unit,))
    kind = KINDS.get(unit.rpartition(".")[2])
    own = properties(bus, MANAGER[0], path, f"{MANAGER[0]}.{kind}") if kind else {}
    return {**own, **properties(bus, MANAGER[0], path, UNIT)}


def _settled(bus: "DBusConnection", unit: str, expected: Sequence[ExpectedState]) -> dict[str, Any]:
    """Return the unit's words once they are as expected, or when it has had time enough."""
    now_s = rests_since_s = time.monotonic()
    deadline_s = now_s + SETTLE_S
    while True:
        words = _words(bus, unit)
        now_s = time.monotonic()
        # a job that was only queued has not changed the state yet
        job, *_ = words.get("Job") or (0,)
        if job or words.get("ActiveState") in ON_THE_WAY:
            rests_since_s = now_s
        elif all(words.get(state.word) in state.values for state in expected):
            return words
        # a unit that came to rest in another state will not move by itself
        if now_s > deadline_s or now_s - rests_since_s > REST_S:
            return words
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
        socket = Path(f"/run/user/{uid}/bus")
        if not socket.exists():
            raise Refused(
                f"the service manager of {act.user} does not answer, so nothing can be done to "
                f"{act.unit}; are they logged in?"
            )
        yield f"unix:path={socket}"


@contextmanager
def as_user(name: str) -> Iterator[int]:
    """Act with the rights of a user, which the administrator takes on; others have their own."""
    try:
        about = pwd.getpwnam(name)
    except KeyError as error:
        raise Refused(f"unknown user {name} on this computer; nothing was done") from error
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
