"""Puts a capture on one time line: levels, rates, processes and applications.

Takes a capture file, gives ``Series``. Each figure is read, differenced and given its unit once. It
judges nothing and words nothing.
"""

from dunmist.series.autostart_costs import Cost, cost_of_entry, cost_of_unit
from dunmist.series.devices import DeviceSeries, DiskKind, DiskSeries, GraphicsSeries, GroupSeries
from dunmist.series.kernel_messages import KernelMessageSeries
from dunmist.series.links import LinkSeries
from dunmist.series.load import Series, load_series
from dunmist.series.machine import LogicalProcessor, MachineSeries
from dunmist.series.memory_breakdown import memory_breakdown
from dunmist.series.process import Application, Process, Thread
from dunmist.series.sensors import (
    Correction,
    Doubt,
    ProcessorSensor,
    SensorSeries,
    load_corrections,
    processor_sensor,
)
from dunmist.series.sockets import SocketSeries, plain_address
from dunmist.series.surveyed import BETWEEN_STARTS, ON_THE_WAY, Storage, Surveyed
from dunmist.series.tick_merging import WHOLE, Part
from dunmist.series.timeline import Floats, Ints, Level, Rate, TimeLine
from dunmist.series.wait_kinds import is_killable, waits_elsewhere

__all__ = [
    "BETWEEN_STARTS",
    "ON_THE_WAY",
    "WHOLE",
    "Application",
    "Correction",
    "Cost",
    "DeviceSeries",
    "DiskKind",
    "DiskSeries",
    "Doubt",
    "Floats",
    "GraphicsSeries",
    "GroupSeries",
    "Ints",
    "KernelMessageSeries",
    "Level",
    "LinkSeries",
    "LogicalProcessor",
    "MachineSeries",
    "Part",
    "Process",
    "ProcessorSensor",
    "Rate",
    "SensorSeries",
    "Series",
    "SocketSeries",
    "Storage",
    "Surveyed",
    "Thread",
    "TimeLine",
    "cost_of_entry",
    "cost_of_unit",
    "is_killable",
    "load_corrections",
    "load_series",
    "memory_breakdown",
    "plain_address",
    "processor_sensor",
    "waits_elsewhere",
]
