"""Reads what a Linux computer publishes about itself below one root directory.

Takes a root, gives plain records in the kernel's own units, one module a subject. It keeps no time,
computes no rates and judges nothing: that is for the rooms after it. Nothing here imports NumPy,
pandas, SciPy or Matplotlib, because this room runs on the patient's computer.
"""

from dunmist.computer.autostart import Home, StartEntry, read_autostart
from dunmist.computer.boot import Boot, StartedUnit, read_boot
from dunmist.computer.boot_history import ComputerStart
from dunmist.computer.control_groups import V2_ROOTS, ControlGroups, GroupSample
from dunmist.computer.cpus import (
    SOFT_INTERRUPTS,
    TIME_FIELDS,
    Processor,
    ProcessorTimes,
    ThrottleSample,
    find_throttling,
    parse_interrupts,
    parse_stat,
    read_clocks_khz,
    read_throttling,
)
from dunmist.computer.deadlined_processes import DEADLINE_S
from dunmist.computer.disks import SECTOR_BYTES, Disk, DiskSample, is_disk, parse_diskstats
from dunmist.computer.drive_health import AskedDrives, DriveHealth
from dunmist.computer.file_systems import FileSystem, read_file_systems
from dunmist.computer.firmware import Firmware, MemoryModule
from dunmist.computer.graphics import (
    GraphicsCard,
    GraphicsSample,
    GraphicsUse,
    parse_fdinfo,
    read_graphics,
)
from dunmist.computer.inventory import Inventory, read_inventory
from dunmist.computer.kernel_log import (
    KERNEL_MESSAGE_KINDS,
    KernelLog,
    KernelMessage,
    KernelMessageKind,
)
from dunmist.computer.known_updates import KnownUpdates, read_known_updates
from dunmist.computer.link_queues import LinkQueues, QueueSample
from dunmist.computer.links import Link, LinkSample, parse_net_dev, parse_tcp_counters
from dunmist.computer.load import (
    LoadAverage,
    StallTotals,
    find_pressure,
    parse_loadavg,
    parse_uptime,
    read_pressure,
)
from dunmist.computer.locks import LockWait, parse_locks
from dunmist.computer.machine import Machine, parse_line, read_machine
from dunmist.computer.memory import (
    SwapArea,
    find_zram,
    parse_meminfo,
    parse_swaps,
    parse_vmstat,
    read_zram_bytes,
)
from dunmist.computer.memory_events import MemoryEvents
from dunmist.computer.packages import Package, read_packages
from dunmist.computer.parsing import (
    PROCESS_NUMBER_MAX,
    Counter,
    Identity,
    ParseError,
    parse_number,
    parse_text,
)
from dunmist.computer.pending_restart import Pending, read_pending
from dunmist.computer.power import PowerSupply, read_power_supplies
from dunmist.computer.process_details import (
    MemoryRollup,
    ProcessDetail,
    parse_waits_in,
    read_details,
    read_rollup,
)
from dunmist.computer.processes import (
    COMMAND_LINE_BYTES,
    DELETED,
    PF_KTHREAD,
    ProcessFacts,
    ProcessGroups,
    ProcessSample,
    ProcessStat,
    ThreadSample,
    parse_cgroup,
    parse_cmdline,
    parse_io,
    parse_login_uid,
    parse_owner,
    parse_schedstat,
    parse_statm,
)
from dunmist.computer.processes import parse_stat as parse_process_stat
from dunmist.computer.root import Parsed, Reason, Root, Unread, reason_of
from dunmist.computer.scheduling import GroupWeight, Scheduling
from dunmist.computer.sensors import RAW_PER_UNIT, SLOW_CHIPS, Quantity, Sensor, read_reading
from dunmist.computer.service_manager import (
    MANAGER,
    Unanswered,
    Unit,
    call,
    connected,
    properties,
    system_bus,
)
from dunmist.computer.services import read_people, read_services
from dunmist.computer.sessions import Session
from dunmist.computer.socket_diag import RECORDED, RecordedDiag, SocketDiag
from dunmist.computer.socket_records import SocketFacts, SocketReading, SocketSample
from dunmist.computer.socket_text import INET_FILES, parse_inet_table, parse_unix_table
from dunmist.computer.task_exits import TaskExit, TaskExits, open_task_exits
from dunmist.computer.time_sync import TimeSync, read_time_sync
from dunmist.computer.users import is_person, read_groups, read_users

__all__ = [
    "COMMAND_LINE_BYTES",
    "DEADLINE_S",
    "DELETED",
    "INET_FILES",
    "KERNEL_MESSAGE_KINDS",
    "MANAGER",
    "PF_KTHREAD",
    "PROCESS_NUMBER_MAX",
    "RAW_PER_UNIT",
    "RECORDED",
    "SECTOR_BYTES",
    "SLOW_CHIPS",
    "SOFT_INTERRUPTS",
    "TIME_FIELDS",
    "V2_ROOTS",
    "AskedDrives",
    "Boot",
    "ComputerStart",
    "ControlGroups",
    "Counter",
    "Disk",
    "DiskSample",
    "DriveHealth",
    "FileSystem",
    "Firmware",
    "GraphicsCard",
    "GraphicsSample",
    "GraphicsUse",
    "GroupSample",
    "GroupWeight",
    "Home",
    "Identity",
    "Inventory",
    "KernelLog",
    "KernelMessage",
    "KernelMessageKind",
    "KnownUpdates",
    "Link",
    "LinkQueues",
    "LinkSample",
    "LoadAverage",
    "LockWait",
    "Machine",
    "MemoryEvents",
    "MemoryModule",
    "MemoryRollup",
    "Package",
    "ParseError",
    "Parsed",
    "Pending",
    "PowerSupply",
    "ProcessDetail",
    "ProcessFacts",
    "ProcessGroups",
    "ProcessSample",
    "ProcessStat",
    "Processor",
    "ProcessorTimes",
    "Quantity",
    "QueueSample",
    "Reason",
    "RecordedDiag",
    "Root",
    "Scheduling",
    "Sensor",
    "Session",
    "SocketDiag",
    "SocketFacts",
    "SocketReading",
    "SocketSample",
    "StallTotals",
    "StartEntry",
    "StartedUnit",
    "SwapArea",
    "TaskExit",
    "TaskExits",
    "ThreadSample",
    "ThrottleSample",
    "TimeSync",
    "Unanswered",
    "Unit",
    "Unread",
    "call",
    "connected",
    "find_pressure",
    "find_throttling",
    "find_zram",
    "is_disk",
    "is_person",
    "open_task_exits",
    "parse_cgroup",
    "parse_cmdline",
    "parse_diskstats",
    "parse_fdinfo",
    "parse_inet_table",
    "parse_interrupts",
    "parse_io",
    "parse_line",
    "parse_loadavg",
    "parse_locks",
    "parse_login_uid",
    "parse_meminfo",
    "parse_net_dev",
    "parse_number",
    "parse_owner",
    "parse_process_stat",
    "parse_schedstat",
    "parse_stat",
    "parse_statm",
    "parse_swaps",
    "parse_tcp_counters",
    "parse_text",
    "parse_unix_table",
    "parse_uptime",
    "parse_vmstat",
    "parse_waits_in",
    "properties",
    "read_autostart",
    "read_boot",
    "read_clocks_khz",
    "read_details",
    "read_file_systems",
    "read_graphics",
    "read_groups",
    "read_inventory",
    "read_known_updates",
    "read_machine",
    "read_packages",
    "read_pending",
    "read_people",
    "read_power_supplies",
    "read_pressure",
    "read_reading",
    "read_rollup",
    "read_services",
    "read_throttling",
    "read_time_sync",
    "read_users",
    "read_zram_bytes",
    "reason_of",
    "system_bus",
]
