"""Define where control groups of version 2 are mounted, and find the parents of a group."""

from typing import Literal, get_args

# on its own, or together with version 1
Mount = Literal["sys/fs/cgroup", "sys/fs/cgroup/unified"]
V2_ROOTS: tuple[Mount, ...] = get_args(Mount)


def with_parents(paths: set[str]) -> set[str]:
    """Return groups and all their parents, without the root group."""
    with_those_above = set()
    for path in paths:
        above = path.rstrip("/")
        while above and above not in with_those_above:
            with_those_above.add(above)
            above = above.rpartition("/")[0]
    return with_those_above
