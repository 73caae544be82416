"""Tables of a capture for people and other programs, as pandas frames.

One module a topic or two. Column names carry their unit and stay as they are; ``docs/views.md``
lists them. Shares are from 0 to 1, ``cores`` are logical processors in use, moments are seconds
since 1970. A list in a cell is text with blanks between.
"""

from collections.abc import Callable

import pandas as pd

from dunmist.series.load import Series
from dunmist.series.tables.cores import core_table, interrupt_table
from dunmist.series.tables.disks import disk_table, file_system_table
from dunmist.series.tables.heat import doubted_table, graphics_table, heat_table
from dunmist.series.tables.links import link_table, transport_table
from dunmist.series.tables.machine import machine_table, module_table
from dunmist.series.tables.memory import holder_table, memory_table, paging_table, swap_table
from dunmist.series.tables.ports import port_table
from dunmist.series.tables.processes import (
    application_table,
    process_table,
    thread_table,
    tree_table,
)
from dunmist.series.tables.services import autostart_table, group_table, service_table
from dunmist.series.tables.sessions import owner_table, session_table
from dunmist.series.tables.timeline import event_table

Maker = Callable[[Series], pd.DataFrame]

# topic, and its tables with their captions; the first is the one that programs get
TOPICS: dict[str, tuple[tuple[str, Maker], ...]] = {
    "processes": (("applications", application_table), ("busy threads", thread_table)),
    "cores": (("logical processors", core_table), ("interrupts", interrupt_table)),
    "memory": (
        ("installed memory", memory_table),
        ("holders", holder_table),
        ("paging", paging_table),
        ("swap areas", swap_table),
        ("modules", module_table),
    ),
    "heat": (
        ("sensors", heat_table),
        ("implausible sensors", doubted_table),
        ("graphics", graphics_table),
    ),
    "ports": (("sockets", port_table),),
    "disks": (("disks", disk_table), ("file systems", file_system_table)),
    "links": (("links", link_table), ("transport", transport_table)),
    "services": (("services", service_table), ("control groups", group_table)),
    "autostart": (("what starts by itself", autostart_table),),
    "sessions": (("sessions", session_table), ("owners of processes", owner_table)),
    "machine": (("machine", machine_table), ("modules", module_table)),
    "timeline": (("events", event_table),),
}

__all__ = ["TOPICS", "application_table", "process_table", "tree_table"]
