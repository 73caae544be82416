"""Model computers: directories of proc, sys and etc that move with a virtual clock.

Takes a scenario, gives a tree that the very same readers sample through ``--root``, a clock to hand
to the sampler, and the truth about what is wrong. The rooms that judge know nothing of it.
"""

from dunmist.simulation.chapters import Chapter, chapter_names, load_chapter
from dunmist.simulation.clock import VirtualClock
from dunmist.simulation.generator import illness_of, random_scenario
from dunmist.simulation.model import ModelComputer
from dunmist.simulation.scenario import (
    DEFAULT_SCENARIO,
    Scenario,
    build_scenario,
    load_scenario,
    scenario_names,
)
from dunmist.simulation.tree import ComputerTree

__all__ = [
    "DEFAULT_SCENARIO",
    "Chapter",
    "ComputerTree",
    "ModelComputer",
    "Scenario",
    "VirtualClock",
    "build_scenario",
    "chapter_names",
    "illness_of",
    "load_chapter",
    "load_scenario",
    "random_scenario",
    "scenario_names",
]
