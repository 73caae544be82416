"""The tables of a capture, each with its columns declared once.

Takes what was judged, gives tables for people and programs. Names of tables and columns stay as
they are; ``docs/views.md`` is made from the declarations. Shares are from 0 to 1, cores are logical
CPUs in use, moments are seconds since 1970; a list in a cell is text with blanks between.
"""

from dunmist.tables.applications import APPLICATIONS, application_rows
from dunmist.tables.boot import BOOT, BOOT_UNITS, boot_of
from dunmist.tables.cells import UNKNOWN, cell_text, number_text, plain
from dunmist.tables.cores import CORES, INTERRUPTS, in_place
from dunmist.tables.declared import (
    CURVES,
    Column,
    Filled,
    Filter,
    Table,
    Unit,
    fill,
    filled,
    records,
    zone_of,
)
from dunmist.tables.disks import DISKS
from dunmist.tables.families import FAMILY
from dunmist.tables.file_users import FILE_USERS
from dunmist.tables.heat import DOUBTED, GRAPHICS, QUANTITY_UNITS, SENSORS, heat_scale, share_curve
from dunmist.tables.links import TRANSPORT
from dunmist.tables.machine import MODULES
from dunmist.tables.memory import HOLDERS, INSTALLED_MEMORY
from dunmist.tables.ports import SOCKETS, socket_rows
from dunmist.tables.processes import PROCESSES, process_rows
from dunmist.tables.services import GROUPS
from dunmist.tables.threads import LOCKS, THREADS, lock_rows, thread_rows
from dunmist.tables.timeline import EVENTS, RESOURCE_LEVELS, events_of
from dunmist.tables.topics import FORMS, TOPICS, tables_of, topic_tables

__all__ = [
    "APPLICATIONS",
    "BOOT",
    "BOOT_UNITS",
    "CORES",
    "CURVES",
    "DISKS",
    "DOUBTED",
    "EVENTS",
    "FAMILY",
    "FILE_USERS",
    "FORMS",
    "GRAPHICS",
    "GROUPS",
    "HOLDERS",
    "INSTALLED_MEMORY",
    "INTERRUPTS",
    "LOCKS",
    "MODULES",
    "PROCESSES",
    "QUANTITY_UNITS",
    "RESOURCE_LEVELS",
    "SENSORS",
    "SOCKETS",
    "THREADS",
    "TOPICS",
    "TRANSPORT",
    "UNKNOWN",
    "Column",
    "Filled",
    "Filter",
    "Table",
    "Unit",
    "application_rows",
    "boot_of",
    "cell_text",
    "events_of",
    "fill",
    "filled",
    "heat_scale",
    "in_place",
    "lock_rows",
    "number_text",
    "plain",
    "process_rows",
    "records",
    "share_curve",
    "socket_rows",
    "tables_of",
    "thread_rows",
    "topic_tables",
    "zone_of",
]
