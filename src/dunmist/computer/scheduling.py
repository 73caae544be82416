"""Read the scheduling group of a process, and the weight of that group.

Sources: sched(7), ``Documentation/admin-guide/cgroup-v2.rst`` (cpu.weight, cpu.idle),
``Documentation/scheduler/sched-design-CFS.rst`` (cpu.shares). A raised nice value counts only among
the tasks of one scheduling group. Groups share the CPUs by their own weights, whatever the
nice values in them. A task is in the group of its control group where that has a weight. Else it is
in the group of its session, where the kernel makes groups of sessions (autogroup). Else there is
only one group.
"""

import msgspec

from dunmist.computer.parsing import Counter, parse_number
from dunmist.computer.root import Root

SUBJECT = "scheduling groups"
# resources of a single group, in version 2 and in version 1 of control groups
USUAL_WEIGHT, USUAL_SHARES = 100, 1024
AUTOGROUP = "proc/sys/kernel/sched_autogroup_enabled"


class GroupWeight(msgspec.Struct, frozen=True, omit_defaults=True):
    """Scheduling of a control group.

    ``scheduled_in`` is the nearest group, itself or above, that has a weight; empty where none has,
    so that nothing but nice values and sessions count. ``weight`` is that of the whole way down to
    it, 100 being usual. ``idle`` says that it runs only while nobody else wants to.
    """

    path: str
    scheduled_in: str = ""
    weight: Counter = USUAL_WEIGHT
    idle: bool = False


class Scheduling(msgspec.Struct, frozen=True, omit_defaults=True):
    """The groups of processes that used much, and whether each session is a group of its own."""

    autogroup: bool
    groups: list[GroupWeight] = []


def read_scheduling(
    root: Root, directory: str | None, paths: list[str], *, version: int
) -> Scheduling:
    """Return the scheduling of control groups; ``directory`` is their mount."""
    return Scheduling(
        root.parse(AUTOGROUP, parse_number, SUBJECT, may_be_absent=True) == 1,
        [_weight(root, directory, path, version) for path in paths] if directory else [],
    )


def _weight(root: Root, directory: str, path: str, version: int) -> GroupWeight:
    scheduled_in, weight, idle = "", 1.0, False
    # from the group itself up to the root, which has no weight
    above = path.rstrip("/")
    while above:
        name = f"{directory}{above}/{'cpu.weight' if version > 1 else 'cpu.shares'}"
        own = root.parse(name, parse_number, SUBJECT, may_be_absent=True)
        if own is not None:
            scheduled_in = scheduled_in or above
            weight *= own / (USUAL_WEIGHT if version > 1 else USUAL_SHARES)
            resting = f"{directory}{above}/cpu.idle"
            idle |= root.parse(resting, parse_number, SUBJECT, may_be_absent=True) == 1
        above = above.rpartition("/")[0]
    return GroupWeight(path, scheduled_in, max(1, round(USUAL_WEIGHT * weight)), idle)
