"""The vocabulary of a diagnosis; every word of it is written here once."""

from typing import Literal, get_args

ResourceWord = Literal[
    "cpu", "core", "memory", "swap", "disk", "storage", "link", "heat", "gpu", "power"
]
LevelWord = Literal["calm", "busy", "strained", "choked"]
# of what an application has an amount, and what it would free
DemandUnit = Literal["cores", "processor", "bytes", "bytes/s", "tcp-bytes/s", "card"]
FreedUnit = Literal["cores", "bytes", "bytes/s", "share"]
Role = Literal["cause", "symptom", "victim", "observer"]
Severity = Literal["note", "concern", "urgent"]
Kind = Literal[
    "cpu-hog",
    "core-bound",
    "spawn-storm",
    "thread-swarm",
    "many-threads",
    "steady-background",
    "memory-hog",
    "memory-leak",
    "memory-growing",
    "memory-short",
    "memory-limited",
    "paging-storm",
    "oom-kill",
    "disk-saturated",
    "disk-slow",
    "storage-full",
    "inodes-full",
    "blocked-on-disk",
    "stuck-process",
    "lock-wait",
    "defunct-pile",
    "descriptor-leak",
    "link-saturated",
    "link-errors",
    "steady-transfer",
    "open-port",
    "port-conflict",
    "overheating",
    "throttled",
    "fan-stopped",
    "hot-while-idle",
    "cooling-worse",
    "sensor-implausible",
    "low-clock",
    "interrupt-storm",
    "kernel-busy",
    "stolen-time",
    "quota-limited",
    "service-restarting",
    "service-stuck",
    "service-failed",
    "file-system-unanswered",
    "lookalike-name",
    "odd-location",
    "deleted-executable",
    "other-user-load",
    "autostart-heavy",
    "memory-below-rating",
    "memory-module-unused",
    "battery-drain",
    "battery-worn",
    "clock-unsynchronised",
    "recent-restart",
    "long-uptime",
    "limit-near",
    "drive-failing",
    "drive-resets",
    "file-system-damaged",
    "memory-faulty",
    "memory-wearing",
    "hardware-fault",
    "kernel-hung",
    "graphics-reset",
    "port-overloaded",
    "device-reconnects",
    "link-flapping",
    "program-crashes",
    "killed-earlier",
    "hot-earlier",
    "drive-too-hot",
    "drive-warns",
    "drive-worn",
    "drive-cable",
    "charger-weak",
    "slow-start",
    "unclean-restart",
    "restart-waiting",
    "updates-known",
]

LEVELS: tuple[LevelWord, ...] = get_args(LevelWord)
ROLES: tuple[Role, ...] = get_args(Role)
KINDS: tuple[Kind, ...] = get_args(Kind)
SEVERITIES: tuple[Severity, ...] = get_args(Severity)


def is_strained(level: LevelWord) -> bool:
    """Whether work is being held up at this level."""
    return LEVELS.index(level) >= LEVELS.index("strained")
