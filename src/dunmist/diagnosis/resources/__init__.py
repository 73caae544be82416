"""The resources that can limit a computer, each declared in a module of its own.

``RESOURCES`` is the list that the judge runs over and the ranking asks; a new resource is one
declaration here and its word in ``words``.
"""

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import Freed
from dunmist.diagnosis.resources.cpu import CPU
from dunmist.diagnosis.resources.cpu import attributed_cpu_s as attributed_cpu_s
from dunmist.diagnosis.resources.declared import Demand as Demand
from dunmist.diagnosis.resources.declared import Resource as Resource
from dunmist.diagnosis.resources.declared import ResourceInstance as ResourceInstance
from dunmist.diagnosis.resources.disk import DISK
from dunmist.diagnosis.resources.disk import SlowDisk as SlowDisk
from dunmist.diagnosis.resources.disk import disk_demand as disk_demand
from dunmist.diagnosis.resources.disk import find_slow_disks as find_slow_disks
from dunmist.diagnosis.resources.graphics import GRAPHICS
from dunmist.diagnosis.resources.heat import HEAT
from dunmist.diagnosis.resources.heat import Heat as Heat
from dunmist.diagnosis.resources.heat import find_heat as find_heat
from dunmist.diagnosis.resources.heat import heat_evidence as heat_evidence
from dunmist.diagnosis.resources.link import LINK
from dunmist.diagnosis.resources.memory import MEMORY, SWAP
from dunmist.diagnosis.resources.memory import pages_per_s as pages_per_s
from dunmist.diagnosis.resources.one_core import CORE
from dunmist.diagnosis.resources.one_core import Bound as Bound
from dunmist.diagnosis.resources.one_core import find_bound as find_bound
from dunmist.diagnosis.resources.storage import STORAGE
from dunmist.diagnosis.words import ResourceWord
from dunmist.series import Application

# in the order in which people read them
RESOURCES: tuple[Resource, ...] = (CPU, CORE, MEMORY, SWAP, DISK, STORAGE, LINK, HEAT, GRAPHICS)
RESOURCE_BY_WORD = {resource.word: resource for resource in RESOURCES}


def savings_of(application: Application, limiting: ResourceWord | None) -> Freed | None:
    """Return the part of the limiting resource that ending an application frees; None if unknown.

    Where nothing limits it is CPU time.
    """
    saving = (RESOURCE_BY_WORD[limiting] if limiting else CPU).saving
    return saving.of(application) if saving else None


def find_coverage(exam: Examination) -> dict[ResourceWord, float | None]:
    """Return of each measured amount the share that was attributed, None if nothing moved."""
    return {
        resource.word: exam.once(resource.coverage)
        for resource in RESOURCES
        # a resource that shares the measure of another one is counted there
        if resource.coverage and resource.saving and resource.saving.resource == resource.word
    }
