"""Says which processes belong together: the application each one is part of.

Takes process facts as they come, gives applications. It is a room of its own, without NumPy,
because the progress shown during a capture needs it as much as the analysis afterwards.
"""

from dunmist.applications.grouping import Grouping, in_user_manager, unit_of
from dunmist.applications.programs import Program, is_shell, program_of
from dunmist.applications.running_use import RunningUse

__all__ = [
    "Group",
    "Grouping",
    "Program",
    "RunningUse",
    "in_user_manager",
    "is_shell",
    "program_of",
    "unit_of",
]
