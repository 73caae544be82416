"""The capture format: one JSON object a line, in a gzip stream.

``header`` comes first, then ``process``, ``socket``, ``event``, ``tick`` and ``survey`` lines as
sampling gives them, and ``footer`` last; a capture without a footer was cut short.
``docs/capture-format.md`` describes it for people, ``docs/capture.schema.json`` is generated from
these types. A new minor version only adds fields or kinds of line; a reader passes over what it
does not know.
"""

import re
from typing import Any

import msgspec

from dunmist.computer import Inventory, Machine, Reason
from dunmist.sampling import Event, Observer, Plan, ProcessLine, SocketLine, Survey, Tick

FORMAT = "dunmist-capture"
# a reader refuses a newer major version, and passes over fields that a newer minor one added
MAJOR, MINOR = 1, 5
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
    """What a stretch was kept for: the rules that set it off, and from when to when."""

    set_off: list[str]
    began_s: float
    ended_s: float


class Header(msgspec.Struct, frozen=True, tag_field="kind", tag="header", kw_only=True):
    """The first line.

    ``live`` is false when the computer was read from a copy or a model; ``privileged`` says whether
    the sampler ran as administrator. ``observer`` is the sampler's own process, ``by_shell`` that
    it was no more than a shell on a remote computer. ``complaints`` are words for what
    somebody complained of, ``note`` is in their own. ``recording`` is of segments of the flight
    recorder, ``incident`` of what it kept.
    """

    format: str
    version: str
    made_by: str
    started: str
    live: bool
    privileged: bool
    machine: Machine
    plan: Plan
    inventory: Inventory = Inventory()
    observer: Observer | None = None
    by_shell: bool = False
    note: str | None = None
    complaints: list[str] = []
    blind_spots: list[Unseen] = []
    recording: Recording | None = None
    incident: IncidentMark | None = None


class Footer(msgspec.Struct, frozen=True, tag_field="kind", tag="footer", kw_only=True):
    """The last line: how the capture ended and everything that could not be read."""

    ended: str
    ticks: int
    missed: int
    ended_early: bool
    own_cpu_s: float | None = None
    blind_spots: list[Unseen] = []


Line = Header | ProcessLine | SocketLine | Event | Tick | Survey | Footer
KINDS = frozenset(("header", "process", "socket", "event", "tick", "survey", "footer"))


def major_of(version: str) -> int | None:
    """Return the major part of a version such as ``1.0``, None when it is none."""
    match = re.match(r"(\d{1,4})(?:\.\d{1,4})?\Z", version)
    return int(match[1]) if match else None


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema (draft 2020-12) of one line of a capture."""
    schema = msgspec.json.schema(Line)
    plain = {key: _with_plain_descriptions(part) for key, part in schema.items()}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "One line of a Dunmist capture",
        **plain,
    }


def _with_plain_descriptions(part: object) -> object:
    """Return a schema whose descriptions do not depend on how docstrings are broken into lines."""
    if isinstance(part, list):
        return [_with_plain_descriptions(item) for item in part]
    if not isinstance(part, dict):
        return part
    return {
        key: " ".join(value.split())
        if key == "description" and isinstance(value, str)
        else _with_plain_descriptions(value)
        for key, value in part.items()
    }
