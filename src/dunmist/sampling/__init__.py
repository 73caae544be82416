"""Samples a computer at an even pace: takes a root, a plan and a clock, gives records.

The records are what the capture file holds; this room says when each was due and when it was in
fact taken, what was missed, and what sampling itself cost. It judges nothing and formats nothing.
"""

from dunmist.sampling.changes import ADDED, KEYS, WORDS
from dunmist.sampling.clock import Clock, SystemClock
from dunmist.sampling.exited_tasks import ExitSum
from dunmist.sampling.pace import Plan
from dunmist.sampling.process_facts import input_of
from dunmist.sampling.records import Event, ProcessLine, SocketLine, Tick
from dunmist.sampling.sampler import Observer, Record, find_observer, sample
from dunmist.sampling.sources import SELDOM_S, SENSORS_S, SOURCES
from dunmist.sampling.survey import Survey

__all__ = [
    "ADDED",
    "KEYS",
    "SELDOM_S",
    "SENSORS_S",
    "SOURCES",
    "WORDS",
    "Clock",
    "Event",
    "ExitSum",
    "Observer",
    "Plan",
    "ProcessLine",
    "Record",
    "SocketLine",
    "Survey",
    "SystemClock",
    "Tick",
    "find_observer",
    "input_of",
    "sample",
]
