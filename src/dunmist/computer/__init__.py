"""Reads what a Linux computer publishes about itself below one root directory.

Takes a root, gives plain records in the kernel's own units, one module a subject. It keeps no time,
computes no rates and judges nothing: that is for the rooms after it. Nothing here imports NumPy,
pandas, SciPy or Matplotlib, because this room runs on the patient's computer.
"""

from dunmist.computer.autostart import Home, StartEntry, read_autostart
from dunmist.computer.control_groups import ControlGroups, GroupSample
from dunmist.computer.disks import SECTOR_BYTES, Disk, DiskSample, is_disk, parse_diskstats
from dunmist.computer.file_systems import FileSystem, read_file_systems
from dunmist.computer.firmware import Firmware, MemoryModule
from dunmist.computer.graphics import (
    GraphicsCard,
    GraphicsSample,
    GraphicsUse,
    read_graphics,
)
from dunmist.computer.interrupts import parse_interrupts
from dunmist.computer.inventory import Inventory, read_inventory
from dunmist.computer.links import Link, LinkSample, parse_net_dev, parse_tcp_counters
from dunmist.computer.load import LoadAverage, parse_loadavg, parse_uptime
from dunmist.computer.locks import LockWait, parse_locks
from dunmist.computer.machine import Machine, read_machine
from dunmist.computer.memory import parse_meminfo, parse_vmstat
from dunmist.computer.packages import Package, read_packages
from dunmist.computer.parsing import ParseError
from dunmist.computer.power import PowerSupply, read_power_supplies
from dunmist.computer.pressure import StallTotals, find_pressure, read_pressure
from dunmist.computer.process_details import MemoryRollup, ProcessDetail
from dunmist.computer.process_table import ProcessTable, Round
from dunmist.computer.processes import (
    DELETED,
    ProcessFacts,
    ProcessSample,
    ThreadSample,
    parse_statm,
)
from dunmist.computer.processes import parse_stat as parse_process_stat
from dunmist.computer.processors import (
    SOFT_INTERRUPTS,
    TIME_FIELDS,
    Processor,
    ProcessorTimes,
    parse_stat,
    read_clocks_khz,
)
from dunmist.computer.root import Reason, Root, Unread
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
from dunmist.computer.socket_records import SocketFacts, SocketSample
from dunmist.computer.sockets import SocketRound, SocketTable
from dunmist.computer.swaps import SwapArea, find_zram, parse_swaps, read_zram_bytes
from dunmist.computer.task_exits import TaskExit, TaskExits, open_task_exits
from dunmist.computer.throttling import ThrottleSample, find_throttling, read_throttling
from dunmist.computer.time_sync import TimeSync, read_time_sync
from dunmist.computer.users import is_person, read_users

__all__ = [
    "DELETED",
    "MANAGER",
    "RAW_PER_UNIT",
    "SECTOR_BYTES",
    "SLOW_CHIPS",
    "SOFT_INTERRUPTS",
    "TIME_FIELDS",
    "ControlGroups",
    "Disk",
    "DiskSample",
    "FileSystem",
    "Firmware",
    "GraphicsCard",
    "GraphicsSample",
    "GraphicsUse",
    "GroupSample",
    "Home",
    "Inventory",
    "Link",
    "LinkSample",
    "LoadAverage",
    "LockWait",
    "Machine",
    "MemoryModule",
    "MemoryRollup",
    "Package",
    "ParseError",
    "PowerSupply",
    "ProcessDetail",
    "ProcessFacts",
    "ProcessSample",
    "ProcessTable",
    "Processor",
    "ProcessorTimes",
    "Quantity",
    "Reason",
    "Root",
    "Round",
    "Sensor",
    "Session",
    "SocketFacts",
    "SocketRound",
    "SocketSample",
    "SocketTable",
    "StallTotals",
    "StartEntry",
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
    "parse_diskstats",
    "parse_interrupts",
    "parse_loadavg",
    "parse_locks",
    "parse_meminfo",
    "parse_net_dev",
    "parse_process_stat",
    "parse_stat",
    "parse_statm",
    "parse_swaps",
    "parse_tcp_counters",
    "parse_uptime",
    "parse_vmstat",
    "properties",
    "read_autostart",
    "read_clocks_khz",
    "read_file_systems",
    "read_graphics",
    "read_inventory",
    "read_machine",
    "read_packages",
    "read_people",
    "read_power_supplies",
    "read_pressure",
    "read_reading",
    "read_services",
    "read_throttling",
    "read_time_sync",
    "read_users",
    "read_zram_bytes",
    "system_bus",
]
