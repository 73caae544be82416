"""Read which control groups are close to their limit of tasks: beyond it no program starts there.

Source: ``Documentation/admin-guide/cgroup-v2.rst`` (pids.max, pids.current, pids.events). A service
manager sets such a limit for each service and each login. ``fork`` and ``clone`` return EAGAIN at
the limit, which programs show as "Resource temporarily unavailable".
"""

import re

import msgspec

from dunmist.computer.group_paths import Mount, with_parents
from dunmist.computer.parsing import Counter, ParseError, count_of, parse_limit
from dunmist.computer.root import Root

SUBJECT = "limits of tasks of control groups"
# share of a limit from which a group is kept
NEAR = 0.75
_REFUSED = re.compile(rb"^max (\d{1,19})$", re.M)


class TaskLimit(msgspec.Struct, frozen=True, array_like=True):
    """One control group that is close to its limit; a task is a process or a thread."""

    path: str
    tasks: Counter
    limit: Counter
    refused: Counter  # tasks that could not start since the group was made


def parse_task_count(data: bytes) -> int | None:
    """Return ``pids.current`` or ``pids.max``, None for 'max'; raises ParseError."""
    return parse_limit(data, "pids.max")


def parse_refused_tasks(data: bytes) -> int:
    """Return the word ``max`` of ``pids.events``; raises ParseError."""
    match = _REFUSED.search(data)
    if match is None:
        raise ParseError("pids.events", "expected the word max", data)
    return count_of(match[1], "pids.events")


def read_task_limits(root: Root, mount: Mount, paths: set[str]) -> list[TaskLimit]:
    """Return those of the groups and their parents that are close to their limit."""
    near = []
    for path in sorted(with_parents(paths)):
        directory = f"{mount}{path}"
        limit = root.parse(f"{directory}/pids.max", parse_task_count, SUBJECT, may_be_silent=True)
        if not limit:
            continue
        tasks = root.parse(
            f"{directory}/pids.current", parse_task_count, SUBJECT, may_be_silent=True
        )
        if tasks is not None and tasks >= NEAR * limit:
            refused = root.parse(
                f"{directory}/pids.events", parse_refused_tasks, SUBJECT, may_be_silent=True
            )
            near.append(TaskLimit(path, tasks, limit, refused or 0))
    return near
