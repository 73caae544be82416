"""The capture format: one JSON object a line, in a gzip stream.

``header`` comes first, then ``process``, ``socket``, ``event``, ``tick`` and ``survey`` lines as
sampling gives them, and ``footer`` last; a capture without a footer was cut short.
``docs/capture-format.md`` describes it for people, ``docs/capture.schema.json`` is generated from
these types. A new minor version only adds fields or kinds of line; a reader passes over what it
does not know.
"""

import re

import msgspec

from dunmist.computer import Inventory, Machine, Reason
from dunmist.sampling import Event, Observer, Plan, ProcessLine, SocketLine, Survey, Tick

FORMAT = "dunmist-capture"
# a reader refuses a newer major version, and passes over fields that a newer minor one added
MAJOR, MINOR = 1, 13
VERSION = f"{MAJOR}.{MINOR}"


class Unseen(msgspec.Struct, frozen=True):
    """A blind spot: what could not be read, why, and how many times."""

    subject: str
    reason: Reason
    count: int


class Recording(msgspec.Struct, frozen=True):
    """Of a segment: the run that it is a part of, and after how many seconds and ticks of it."""

    run: str
    after_s: float
    first_tick: int


class IncidentMark(msgspec.Struct, frozen=True):
    """Reason to keep a window: the rules that started the incident, its begin and end."""

    set_off: list[str]
    began_s: float
    ended_s: float


class Header(msgspec.Struct, frozen=True, tag_field="kind", tag="header", kw_only=True):
    """The first line of a capture."""

    format: str
    version: str
    made_by: str  # program and version
    started: str  # ISO 8601 with the offset of the patient's zone
    live: bool  # false where a copy or a model was read
    privileged: bool  # the sampler ran as administrator
    machine: Machine
    plan: Plan
    inventory: Inventory = Inventory()
    observer: Observer | None = None  # the sampler's own process
    by_shell: bool = False  # the sampler was a shell on a remote computer
    note: str | None = None  # the complaint in the person's own words
    complaints: list[str] = []  # words of 'dunmist capture --complaint'
    blind_spots: list[Unseen] = []
    recording: Recording | None = None  # set in segments of the flight recorder
    incident: IncidentMark | None = None  # set in what the flight recorder kept


class Footer(msgspec.Struct, frozen=True, tag_field="kind", tag="footer", kw_only=True):
    """The last line: how the capture ended and what could not be read."""

    ended: str  # ISO 8601, as in the header
    ticks: int
    missed: int  # ticks that were due and not taken
    ended_early: bool  # a person or a signal ended it
    own_cpu_s: float | None = None  # None if a shell sampled
    blind_spots: list[Unseen] = []


Line = Header | ProcessLine | SocketLine | Event | Tick | Survey | Footer
KINDS = frozenset(("header", "process", "socket", "event", "tick", "survey", "footer"))


def major_of(version: str) -> int | None:
    """Return the major part of a version such as ``1.0``, None when it is none."""
    match = re.match(r"(\d{1,4})(?:\.\d{1,4})?\Z", version)
    return int(match[1]) if match else None
