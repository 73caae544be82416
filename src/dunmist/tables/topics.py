"""List the tables of each topic: read by views, reports, completion and the docs."""

from typing import Any, Literal

from dunmist.advice import Judged
from dunmist.tables.applications import APPLICATIONS
from dunmist.tables.boot import BOOT, BOOT_UNITS
from dunmist.tables.changes import CHANGES
from dunmist.tables.cores import CORES, INTERRUPTS
from dunmist.tables.declared import Filled, Table, fill
from dunmist.tables.disks import DISKS, FILE_SYSTEMS
from dunmist.tables.doing import CODE, DOING
from dunmist.tables.families import FAMILY
from dunmist.tables.heat import DOUBTED, GRAPHICS, GRAPHICS_USERS, SENSORS
from dunmist.tables.kernel_messages import COMPLAINTS
from dunmist.tables.links import LINKS, TRANSPORT
from dunmist.tables.load import LOAD, PROCESS_STATES
from dunmist.tables.machine import MACHINE, MODULES
from dunmist.tables.memory import MEMORY_TABLES
from dunmist.tables.ports import PEERS, SOCKETS
from dunmist.tables.processes import PROCESSES, UNFOLDED
from dunmist.tables.services import AUTOSTART, GROUPS, SERVICES
from dunmist.tables.sessions import OWNERS, SESSIONS
from dunmist.tables.threads import THREADS
from dunmist.tables.timeline import EVENTS, RESOURCE_LEVELS

# of each topic the first table is the one that programs get as CSV
TOPICS: dict[str, tuple[Table[Any], ...]] = {
    "processes": (APPLICATIONS, PROCESS_STATES, THREADS),
    "cores": (CORES, LOAD, INTERRUPTS),
    "memory": MEMORY_TABLES,
    "heat": (SENSORS, DOUBTED, GRAPHICS, GRAPHICS_USERS),
    "ports": (SOCKETS, PEERS),
    "disks": (DISKS, FILE_SYSTEMS),
    "links": (LINKS, TRANSPORT),
    "services": (SERVICES, GROUPS),
    "autostart": (AUTOSTART,),
    "sessions": (SESSIONS, OWNERS),
    "machine": (MACHINE, MODULES),
    "boot": (BOOT, BOOT_UNITS),
    "messages": (COMPLAINTS,),
    "changes": (CHANGES,),
    "doing": (DOING, CODE),
    "timeline": (RESOURCE_LEVELS, EVENTS),
}
Form = Literal["each", "flat", "tree"]
FORMS: dict[Form, tuple[Table[Any], ...]] = {
    "each": (UNFOLDED,),
    "flat": (PROCESSES,),
    "tree": (FAMILY,),
}


def tables_of(topic: str, form: Form | None = None) -> tuple[Table[Any], ...]:
    """Return the tables of a topic; ``form`` is one of the other forms of the processes."""
    return FORMS[form] if topic == "processes" and form else TOPICS[topic]


def topic_tables(topic: str, judged: Judged, form: Form | None = None) -> list[Filled]:
    """Return the tables of a topic filled with what was judged."""
    return [fill(table, judged) for table in tables_of(topic, form)]
