"""Set the priority of the screen: keys are answered even if every CPU is full.

Only the administrator may take a better one (setpriority(2)). What the screen starts gets the usual
one back by nice(1), or what a report costs would be taken from those who work there.
"""

import os

from dunmist.children import find_program

RAISED_BY = 5
# idle work: as little as the kernel gives to anybody
IDLE = 19


def raise_priority() -> bool:
    """Take a better priority; false where that is not allowed."""
    try:
        os.setpriority(os.PRIO_PROCESS, 0, os.getpriority(os.PRIO_PROCESS, 0) - RAISED_BY)
    except PermissionError:
        return False
    return True


def with_priority(command: list[str], lower_by: int) -> list[str]:
    """Return a command that runs with a lower priority than its caller, where nice(1) is."""
    nice = find_program("nice") if lower_by else None
    return command if nice is None else [nice, "-n", str(lower_by), *command]
