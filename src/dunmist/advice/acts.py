"""What a step does when the program carries it out, with exactly whom it concerns.

Advice fills these in and runs nothing; the room ``fixing`` carries them out.
"""

from typing import Literal, get_args

import msgspec

Verb = Literal[
    "pause",
    "resume",
    "alternate",
    "install-unit",
    "lower-priority",
    "lower-disk-priority",
    "end",
    "end-family",
    "force-end",
    "limit",
    "restart-unit",
    "stop-unit",
    "disable-unit",
    "disable-timer",
    "disable-autostart",
]
VERBS: tuple[Verb, ...] = get_args(Verb)


class Target(msgspec.Struct, frozen=True):
    """One process: its number counts only together with the moment of its start.

    ``user`` is None where the name of its owner is not known.
    """

    pid: int
    start_clk: int
    name: str
    uid: int | None
    user: str | None = None


class Act(msgspec.Struct, frozen=True, omit_defaults=True):
    """One act. ``user`` names whose service manager has the unit, or whose login starts something.

    It is None for the system's own manager. ``percent`` is the limit of processor time in percent
    of one processor, ``file`` an autostart entry.
    """

    verb: Verb
    targets: list[Target] = []
    unit: str | None = None
    user: str | None = None
    percent: int | None = None
    file: str | None = None
