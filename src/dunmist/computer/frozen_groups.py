"""Read which control groups are frozen: none of their tasks runs until the group is thawed.

Source: ``Documentation/admin-guide/cgroup-v2.rst`` (cgroup.freeze, cgroup.events). A frozen task
looks like a sleeping one in proc_pid_stat(5). Version 1 shows its frozen tasks in state D.
"""

import re

import msgspec

from dunmist.computer.group_paths import Mount, with_parents
from dunmist.computer.parsing import ParseError
from dunmist.computer.root import Root

SUBJECT = "frozen control groups"
_FROZEN = re.compile(rb"^frozen ([01])$", re.M)


class FrozenGroup(msgspec.Struct, frozen=True, array_like=True):
    """One frozen group: its path below the mount of version 2.

    A capture names no file for a command: whoever writes one would choose what is overwritten.
    """

    path: str
    mount: Mount


def parse_group_events(data: bytes) -> bool:
    """Return whether ``cgroup.events`` says that the group is frozen; raises ParseError."""
    match = _FROZEN.search(data)
    if match is None:
        raise ParseError("cgroup.events", "expected the word frozen", data)
    return match[1] == b"1"


def read_frozen_groups(root: Root, mount: Mount, paths: set[str]) -> list[FrozenGroup]:
    """Return the frozen groups among these and their parents, without those below another one."""
    frozen: list[FrozenGroup] = []
    # a parent comes before its children
    for path in sorted(with_parents(paths)):
        if any(path.startswith(f"{group.path}/") for group in frozen):
            continue
        name = f"{mount}{path}/cgroup.events"
        if root.parse(name, parse_group_events, SUBJECT, may_be_silent=True):
            frozen.append(FrozenGroup(path, mount))
    return frozen
