"""Reads what a Linux computer publishes about itself below one root directory.

Takes a root, gives plain records in the kernel's own units, one module a subject. It keeps no time,
computes no rates and judges nothing: that is for the rooms after it. Nothing here imports NumPy,
pandas, SciPy or Matplotlib, because this room runs on the patient's computer.
"""

from dunmist.computer.load import LoadAverage, parse_loadavg, parse_uptime
from dunmist.computer.machine import Machine, read_machine
from dunmist.computer.memory import parse_meminfo, parse_vmstat
from dunmist.computer.parsing import ParseError
from dunmist.computer.pressure import StallTotals, find_pressure, read_pressure
from dunmist.computer.process_table import ProcessTable, Round
from dunmist.computer.processes import (
    ProcessFacts,
    ProcessSample,
    ThreadSample,
    parse_statm,
)
from dunmist.computer.processes import parse_stat as parse_process_stat
from dunmist.computer.processors import (
    TIME_FIELDS,
    Processor,
    ProcessorTimes,
    parse_stat,
    read_clocks_khz,
)
from dunmist.computer.root import Reason, Root, Unread

__all__ = [
    "TIME_FIELDS",
    "LoadAverage",
    "Machine",
    "ParseError",
    "ProcessFacts",
    "ProcessSample",
    "ProcessTable",
    "Processor",
    "ProcessorTimes",
    "Reason",
    "Root",
    "Round",
    "StallTotals",
    "ThreadSample",
    "Unread",
    "find_pressure",
    "parse_loadavg",
    "parse_meminfo",
    "parse_process_stat",
    "parse_stat",
    "parse_statm",
    "parse_uptime",
    "parse_vmstat",
    "read_clocks_khz",
    "read_machine",
    "read_pressure",
]
