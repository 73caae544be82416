"""Puts a capture on one time line: levels, rates, processes and applications.

Takes a capture file, gives ``Series``. Each figure is read, differenced and given its unit once. It
judges nothing and words nothing.
"""

from dunmist.series.autostart_costs import Cost as Cost
from dunmist.series.autostart_costs import cost_of_entry as cost_of_entry
from dunmist.series.autostart_costs import cost_of_unit as cost_of_unit
from dunmist.series.code_use import CodeLocation as CodeLocation
from dunmist.series.code_use import CodeUse as CodeUse
from dunmist.series.code_use import readable as readable
from dunmist.series.devices import DeviceSeries as DeviceSeries
from dunmist.series.devices import DiskSeries as DiskSeries
from dunmist.series.devices import GraphicsSeries as GraphicsSeries
from dunmist.series.devices import GroupSeries as GroupSeries
from dunmist.series.file_use import FileUse as FileUse
from dunmist.series.file_use import MovedFile as MovedFile
from dunmist.series.kernel_messages import KernelMessageSeries as KernelMessageSeries
from dunmist.series.links import LinkSeries as LinkSeries
from dunmist.series.links import signal_dbm as signal_dbm
from dunmist.series.load import Series as Series
from dunmist.series.load import load_series as load_series
from dunmist.series.machine import LogicalProcessor as LogicalProcessor
from dunmist.series.machine import MachineSeries as MachineSeries
from dunmist.series.memory_breakdown import memory_breakdown as memory_breakdown
from dunmist.series.process import Application as Application
from dunmist.series.process import Process as Process
from dunmist.series.process import Thread as Thread
from dunmist.series.sensors import Correction as Correction
from dunmist.series.sensors import Doubt as Doubt
from dunmist.series.sensors import ProcessorSensor as ProcessorSensor
from dunmist.series.sensors import SensorSeries as SensorSeries
from dunmist.series.sensors import load_corrections as load_corrections
from dunmist.series.sensors import processor_sensor as processor_sensor
from dunmist.series.sockets import SocketSeries as SocketSeries
from dunmist.series.sockets import UnixConnection as UnixConnection
from dunmist.series.sockets import network_of as network_of
from dunmist.series.sockets import plain_address as plain_address
from dunmist.series.surveyed import BETWEEN_STARTS as BETWEEN_STARTS
from dunmist.series.surveyed import ON_THE_WAY as ON_THE_WAY
from dunmist.series.surveyed import Storage as Storage
from dunmist.series.surveyed import Surveyed as Surveyed
from dunmist.series.tick_merging import WHOLE as WHOLE
from dunmist.series.tick_merging import Part as Part
from dunmist.series.timeline import Floats as Floats
from dunmist.series.timeline import Ints as Ints
from dunmist.series.timeline import Level as Level
from dunmist.series.timeline import Rate as Rate
from dunmist.series.timeline import TimeLine as TimeLine
from dunmist.series.wait_kinds import is_killable as is_killable
from dunmist.series.wait_kinds import waits_elsewhere as waits_elsewhere
from dunmist.series.waiting_calls import CallUse as CallUse
