"""The paths that the collector reads on a remote computer, by when it reads them.

The shell gets those of ``computer.READ_PATHS`` as patterns, and what arrives is held against the
same ones: everything else is skipped, as no reader wants it and the sender chose its name.
"""

import itertools
import re
from functools import cache
from typing import get_args

from dunmist.computer.read_paths import READ_PATHS, ShellList, path_expression

# fields of a capture that no shell can bring: netlink, tracing, the service manager, drives that
# are asked, databases, and what is looked up file by file while a program runs
NOT_BY_SHELL = {
    "tick": ("after_ms", "code", "calls", "complaints", "exits", "files", "file_totals"),
    "survey": (
        *("sessions", "units", "autostart", "packages", "boot", "drives", "rollups"),
        *(
            "time_sync",
            "pending",
            "updates",
            "memory_events",
            "frozen_groups",
            "task_limits",
            "io_limits",
            "unix_pairs",
            "log_ends",
        ),
        "terminals",
        *("replaced", "deleted_files", "radio", "functions", "asked"),
    ),
    "inventory": ("starts", "crashes", "missing_drivers", "firmware"),
}


@cache
def file_line() -> re.Pattern[bytes]:
    """Return the pattern of a line ``PATH:CONTENT`` with an accepted path."""
    names = [name for name in get_args(ShellList) if name != "framed"]
    paths = "|".join(path_expression(path) for name in names for path in _paths(name))
    return re.compile(f"({paths}):(.*)".encode(), re.S)


def shell_lists() -> str:
    """Return assignments of a POSIX shell, one a list, of patterns that it looks for itself."""
    return "".join(
        f"{name}='{' '.join(word for path in _paths(name) for word in _shell_words(path))}'\n"
        for name in get_args(ShellList)
        if name.isupper()
    )


def _paths(name: ShellList) -> list[str]:
    return [path for read in READ_PATHS if read.by_shell == name for path in read.paths]


def _shell_words(path: str) -> list[str]:
    choices = [part.split(",") for part in re.split(r"[{}]", path.replace("#", "[0-9]*"))]
    return list(map("".join, itertools.product(*choices)))
