"""The tables of a capture, each with its columns declared once.

Takes what was judged, gives tables for people and programs. Names of tables and columns stay as
they are; ``docs/views.md`` is made from the declarations. Shares are from 0 to 1, cores are logical
CPUs in use, timestamps are seconds since 1970; a list in a cell is text with blanks between.
"""

from dunmist.tables.applications import APPLICATIONS as APPLICATIONS
from dunmist.tables.applications import applications_of as applications_of
from dunmist.tables.boot import BOOT as BOOT
from dunmist.tables.boot import BOOT_UNITS as BOOT_UNITS
from dunmist.tables.boot import boot_of as boot_of
from dunmist.tables.cells import UNKNOWN as UNKNOWN
from dunmist.tables.cells import cell_text as cell_text
from dunmist.tables.cells import number_text as number_text
from dunmist.tables.cells import plain as plain
from dunmist.tables.cores import CORES as CORES
from dunmist.tables.cores import INTERRUPTS as INTERRUPTS
from dunmist.tables.cores import in_core_order as in_core_order
from dunmist.tables.declared import CURVES as CURVES
from dunmist.tables.declared import Column as Column
from dunmist.tables.declared import Filled as Filled
from dunmist.tables.declared import Filter as Filter
from dunmist.tables.declared import Row as Row
from dunmist.tables.declared import Table as Table
from dunmist.tables.declared import Unit as Unit
from dunmist.tables.declared import fill as fill
from dunmist.tables.declared import filled as filled
from dunmist.tables.declared import is_unknown as is_unknown
from dunmist.tables.declared import zone_of as zone_of
from dunmist.tables.disks import DISKS as DISKS
from dunmist.tables.doing import CODE as CODE
from dunmist.tables.families import FAMILY as FAMILY
from dunmist.tables.file_users import FILE_USERS as FILE_USERS
from dunmist.tables.heat import DOUBTED as DOUBTED
from dunmist.tables.heat import GRAPHICS as GRAPHICS
from dunmist.tables.heat import QUANTITY_UNITS as QUANTITY_UNITS
from dunmist.tables.heat import SENSORS as SENSORS
from dunmist.tables.heat import heat_scale as heat_scale
from dunmist.tables.heat import share_curve as share_curve
from dunmist.tables.links import TRANSPORT as TRANSPORT
from dunmist.tables.machine import MODULES as MODULES
from dunmist.tables.memory import HOLDERS as HOLDERS
from dunmist.tables.memory import INSTALLED_MEMORY as INSTALLED_MEMORY
from dunmist.tables.ports import SOCKETS as SOCKETS
from dunmist.tables.ports import sockets_of as sockets_of
from dunmist.tables.processes import PROCESSES as PROCESSES
from dunmist.tables.processes import processes_of as processes_of
from dunmist.tables.services import GROUPS as GROUPS
from dunmist.tables.threads import LOCKS as LOCKS
from dunmist.tables.threads import THREADS as THREADS
from dunmist.tables.threads import locks_of as locks_of
from dunmist.tables.threads import threads_of as threads_of
from dunmist.tables.timeline import EVENTS as EVENTS
from dunmist.tables.timeline import RESOURCE_LEVELS as RESOURCE_LEVELS
from dunmist.tables.timeline import events_of as events_of
from dunmist.tables.topics import FORMS as FORMS
from dunmist.tables.topics import TOPICS as TOPICS
from dunmist.tables.topics import tables_of as tables_of
from dunmist.tables.topics import topic_tables as topic_tables
