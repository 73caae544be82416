"""The kernel's freezer for a control group that is all one suspect.

Source: ``cgroup.freeze`` in ``Documentation/admin-guide/cgroup-v2.rst`` (kernel 5.2 and later). It
stops what the group starts meanwhile, too, and nobody in it notices.
"""

import os
from collections.abc import Collection
from pathlib import Path

from dunmist.computer import V2_ROOTS, Root, parse_cgroup
from dunmist.errors import Refused

# groups below a unit that are frozen together
GROUPS_MOST = 200


def freezer_of(root: Root, pids: Collection[int]) -> int | None:
    """Return a descriptor of the freezer of the group that holds these processes and no others.

    None if there is no such group, or it may not be written to. Raises Refused where it is
    frozen already.
    """
    paths = {_path(root, pid) for pid in pids}
    path = paths.pop() if len(paths) == 1 else None
    if path is None or path == "/":
        return None
    for mount in V2_ROOTS:
        group = Path(root.full(mount + path))
        if not (group / "cgroup.freeze").exists() or not _members(group) <= set(pids):
            continue
        if (group / "cgroup.freeze").read_text().strip() == "1":
            raise Refused(f"{path} is frozen already; let it go on before it is tried")
        try:
            return os.open(group / "cgroup.freeze", os.O_WRONLY | os.O_CLOEXEC)
        except PermissionError:
            return None
    return None


def _path(root: Root, pid: int) -> str | None:
    groups = root.parse(f"proc/{pid}/cgroup", parse_cgroup, "control groups", may_be_absent=True)
    return groups.unit if groups else None


def _members(group: Path) -> set[int]:
    """Return every process of a group and of those below it; raises Refused for a huge one."""
    members: set[int] = set()
    for count, folder in enumerate([group, *group.rglob("*/")]):
        if count > GROUPS_MOST:
            raise Refused(f"{group} has more than {GROUPS_MOST} groups below it; try a part of it")
        members.update(map(int, (folder / "cgroup.procs").read_text().split()))
    return members
