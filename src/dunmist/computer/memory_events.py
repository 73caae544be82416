"""Read how often the memory limit of a control group ended programs, as the kernel counts it.

Source: ``Documentation/admin-guide/cgroup-v2.rst`` (memory.events, memory.max). Counts go up to all
groups above, where they stay when a group is created again. ``oom`` counts how often a limit of the
group or of one below it was reached with nothing left to give; ``oom_kill`` counts the processes
ended in it, for whatever reason: without an ``oom`` the memory of the whole computer ran out.
"""

import re

import msgspec

from dunmist.computer.group_paths import with_parents
from dunmist.computer.parsing import Counter, ParseError, count_of, parse_limit
from dunmist.computer.root import Root

SUBJECT = "memory limits of control groups"
_WORD = re.compile(rb"^(oom|oom_kill) (\d{1,19})$", re.M)


class MemoryEvents(msgspec.Struct, frozen=True, array_like=True):
    """One group in which something was ended; ``limit_bytes`` is None if it has no limit."""

    path: str
    oom: Counter
    oom_kill: Counter
    limit_bytes: Counter | None


def parse_memory_events(data: bytes) -> dict[str, int]:
    """Return the words ``oom`` and ``oom_kill`` of ``memory.events``; raises ParseError."""
    words = {word.decode(): count_of(count, "memory.events") for word, count in _WORD.findall(data)}
    if len(words) < 2:
        raise ParseError("memory.events", "expected the words oom and oom_kill", data)
    return words


def parse_memory_max(data: bytes) -> int | None:
    """Return the limit in bytes, None for 'max'; raises ParseError."""
    return parse_limit(data, "memory.max")


def read_memory_events(root: Root, directory: str, paths: set[str]) -> list[MemoryEvents]:
    """Return the groups, and those above them, in which something was ended since they began."""
    memory_events = []
    for path in sorted(with_parents(paths)):
        name = f"{directory}{path}/memory.events"
        words = root.parse(name, parse_memory_events, SUBJECT, may_be_silent=True)
        if words and any(words.values()):
            limit = root.parse(
                f"{directory}{path}/memory.max", parse_memory_max, SUBJECT, may_be_silent=True
            )
            memory_events.append(MemoryEvents(path, words["oom"], words["oom_kill"], limit))
    return memory_events
