"""Model computers: directories of proc, sys and etc that move with a virtual clock.

Takes a scenario, gives a tree that the very same readers sample through ``--root``, a clock to hand
to the sampler, and the truth about what is wrong. The rooms that judge know nothing of it.
"""

from dunmist.simulation.chapters import Chapter as Chapter
from dunmist.simulation.chapters import chapter_names as chapter_names
from dunmist.simulation.chapters import load_chapter as load_chapter
from dunmist.simulation.clock import VirtualClock as VirtualClock
from dunmist.simulation.model import ModelComputer as ModelComputer
from dunmist.simulation.scenario import DEFAULT_SCENARIO as DEFAULT_SCENARIO
from dunmist.simulation.scenario import Scenario as Scenario
from dunmist.simulation.scenario import build_scenario as build_scenario
from dunmist.simulation.scenario import load_scenario as load_scenario
from dunmist.simulation.scenario import scenario_names as scenario_names
from dunmist.simulation.tree import ComputerTree as ComputerTree
