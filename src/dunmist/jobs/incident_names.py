"""Finds what the flight recorder kept by the name that people give it: its number, or its time."""

from datetime import datetime, time, timedelta
from pathlib import Path

from dunmist.errors import UnknownName
from dunmist.jobs.numbers import plain_number
from dunmist.jobs.settings import incidents_directory
from dunmist.recorder import Kept, capture_of, read_incidents

NEAR = timedelta(minutes=1)


def incident_file(name: str) -> Path:
    """Return the capture of an incident; raises UnknownName if there is none."""
    folder = incidents_directory()
    kept = read_incidents(folder)
    number = plain_number(name)
    incident = _by_time(kept, name) if number is None else _by_number(kept, number)
    if incident is None:
        last = kept[-1].number if kept else None
        hint = f"the last one is incident:{last}" if last else "none is kept"
        raise UnknownName(f"unknown incident '{name}'; {hint}, see 'dunmist watch list'")
    return capture_of(folder, incident.number)


def _by_number(kept: list[Kept], number: int) -> Kept | None:
    return next((incident for incident in kept if incident.number == number), None)


def _by_time(kept: list[Kept], name: str) -> Kept | None:
    """Return the last one that was going on at a time of the day, or began within its minute."""
    try:
        wanted = time.fromisoformat(name)
    except ValueError:
        return None
    for incident in reversed(kept):
        began, ended = (datetime.fromisoformat(text) for text in (incident.began, incident.ended))
        meant = began.replace(hour=wanted.hour, minute=wanted.minute, second=wanted.second)
        if began - NEAR < meant <= max(ended, began + NEAR):
            return incident
    return None
