"""The resources that can limit a computer, each declared in a module of its own.

``RESOURCES`` is the list that the judge runs over and the ranking asks; a new resource is one
declaration here and its word in ``words``.
"""

from dunmist.diagnosis.resources.cpu import PROCESSOR
from dunmist.diagnosis.resources.declared import Demand, Resource, ResourceInstance
from dunmist.diagnosis.resources.disk import DISK, SlowDisk, disk_demand, find_slow_disks
from dunmist.diagnosis.resources.graphics import GRAPHICS
from dunmist.diagnosis.resources.heat import HEAT, Heat, find_heat, heat_signs
from dunmist.diagnosis.resources.link import LINK
from dunmist.diagnosis.resources.memory import MEMORY, SWAP, pages_per_s
from dunmist.diagnosis.resources.one_core import CORE, Bound, find_bound
from dunmist.diagnosis.resources.storage import STORAGE

# in the order in which people read them
RESOURCES: tuple[Resource, ...] = (
    PROCESSOR,
    CORE,
    MEMORY,
    SWAP,
    DISK,
    STORAGE,
    LINK,
    HEAT,
    GRAPHICS,
)
BY_WORD = {resource.word: resource for resource in RESOURCES}

__all__ = [
    "BY_WORD",
    "RESOURCES",
    "Bound",
    "Demand",
    "Heat",
    "Resource",
    "ResourceInstance",
    "SlowDisk",
    "disk_demand",
    "find_bound",
    "find_heat",
    "find_slow_disks",
    "heat_signs",
    "pages_per_s",
]
