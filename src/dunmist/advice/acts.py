"""Describe what a step runs and the exact processes or units that it is applied to.

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
    "ordinary-priority",
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
    """One process; its number is unique only together with its start time."""

    pid: int
    start_clk: int  # field 22 of proc_pid_stat(5)
    name: str
    uid: int | None
    user: str | None = None  # None if the number has no name here


class Act(msgspec.Struct, frozen=True, omit_defaults=True):
    """One act, as a step of the ladder proposes it."""

    verb: Verb
    targets: list[Target] = []
    unit: str | None = None  # with its ending, as the service manager names it
    user: str | None = None  # owner of the service manager or login; None for the system's own
    # of one logical CPU, as CPUQuota= of systemd.resource-control(5) counts
    percent: int | None = None
    file: str | None = None  # an autostart entry or a crontab
