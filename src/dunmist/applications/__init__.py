"""Says which processes belong together: the application each one is part of.

Takes process facts as they come, gives applications. It is a room of its own, without NumPy,
because the progress shown during a capture needs it as much as the analysis afterwards.
"""

from dunmist.applications.generations import RunningLives as RunningLives
from dunmist.applications.generations import adopt_generations as adopt_generations
from dunmist.applications.generations import find_starters as find_starters
from dunmist.applications.grouping import Grouping as Grouping
from dunmist.applications.grouping import in_user_manager as in_user_manager
from dunmist.applications.grouping import last_starter as last_starter
from dunmist.applications.grouping import unit_of as unit_of
from dunmist.applications.grouping import unit_or_path as unit_or_path
from dunmist.applications.programs import Program as Program
from dunmist.applications.programs import is_shell as is_shell
from dunmist.applications.programs import program_of as program_of
from dunmist.applications.running_use import RunningUse as RunningUse
