"""The vocabulary of a diagnosis; every word of it is written here once."""

from typing import Literal, get_args

Resource = Literal[
    "cpu", "core", "memory", "swap", "disk", "storage", "link", "heat", "gpu", "power"
]
Level = Literal["calm", "busy", "strained", "choked"]
Role = Literal["cause", "symptom", "victim", "observer"]
Severity = Literal["note", "concern", "urgent"]
Kind = Literal[
    "cpu-hog",
    "core-bound",
    "spawn-storm",
    "steady-background",
    "memory-hog",
    "memory-short",
    "stolen-time",
    "defunct-pile",
    "stuck-process",
    "recent-restart",
    "long-uptime",
]

LEVELS: tuple[Level, ...] = get_args(Level)
KINDS: tuple[Kind, ...] = get_args(Kind)
SEVERITIES: tuple[Severity, ...] = get_args(Severity)


def is_strained(level: Level) -> bool:
    """Whether work is being held up at this level."""
    return LEVELS.index(level) >= LEVELS.index("strained")
