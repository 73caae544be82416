"""Read services, timers and sessions from the service manager, else from files."""

import msgspec

from dunmist.computer.root import Root
from dunmist.computer.service_files import read_unit_files
from dunmist.computer.service_manager import Unanswered, Unit, read_logins, read_units, system_bus
from dunmist.computer.sessions import Session, read_sessions

SUBJECT = "state of services"


def read_services(root: Root, *, whole: bool) -> list[Unit]:
    """Return services and timers; a blind spot where only files could be asked.

    Only with ``whole`` what files say is read, too: which start by themselves, and those that are
    not loaded.
    """
    address = system_bus() if root.is_this_computer else None
    if not address:
        root.note(SUBJECT, "absent")
        return read_unit_files(root)
    try:
        units = read_units(address, with_timers=whole)
    except Unanswered:
        root.note(SUBJECT, "failed")
        return read_unit_files(root)
    return _with_files(units, read_unit_files(root)) if whole else units


def _with_files(units: list[Unit], files: list[Unit]) -> list[Unit]:
    described = {unit.name: unit for unit in files}
    known = {unit.name for unit in units}
    running = [
        msgspec.structs.replace(
            unit,
            starts=described[unit.name].starts,
            schedule=described[unit.name].schedule,
            # a manager that answers slowly was not asked for it
            triggers=unit.triggers or described[unit.name].triggers,
        )
        if unit.name in described
        else unit
        for unit in units
    ]
    asleep = [
        msgspec.structs.replace(unit, active="inactive")
        for unit in files
        if unit.starts == "enabled" and unit.name not in known
    ]
    return running + asleep


def read_people(root: Root, now_s: float) -> list[Session]:
    """Return the logged-in people."""
    address = system_bus() if root.is_this_computer else None
    if address:
        try:
            logins = read_logins(address)
        except Unanswered:
            logins = []
        if logins:
            return [_with_idle_time(login, now_s) for login in logins]
    return read_sessions(root, now_s)


def _with_idle_time(login: Session, now_s: float) -> Session:
    if login.idle_s is None:
        return login
    return msgspec.structs.replace(login, idle_s=max(0.0, now_s - login.idle_s))
