"""Samples a computer at an even pace: takes a root, a plan and a clock, gives records.

The records are what the capture file holds; this room says when each was due and when it was in
fact taken, what was missed, and what sampling itself cost. It judges nothing and formats nothing.
"""

from dunmist.sampling.changes import ADDED as ADDED
from dunmist.sampling.changes import KEYS as KEYS
from dunmist.sampling.changes import WORDS as WORDS
from dunmist.sampling.clock import Clock as Clock
from dunmist.sampling.clock import SystemClock as SystemClock
from dunmist.sampling.code_sampler import GENERATED as GENERATED
from dunmist.sampling.code_sampler import KERNEL as KERNEL
from dunmist.sampling.code_sampler import UNKNOWN as UNKNOWN
from dunmist.sampling.code_sampler import FunctionSamples as FunctionSamples
from dunmist.sampling.exited_tasks import ExitSum as ExitSum
from dunmist.sampling.file_activity import CharacterCounts as CharacterCounts
from dunmist.sampling.pace import Plan as Plan
from dunmist.sampling.process_facts import input_of as input_of
from dunmist.sampling.records import Event as Event
from dunmist.sampling.records import ProcessLine as ProcessLine
from dunmist.sampling.records import SocketLine as SocketLine
from dunmist.sampling.records import Tick as Tick
from dunmist.sampling.sampler import Observer as Observer
from dunmist.sampling.sampler import Record as Record
from dunmist.sampling.sampler import find_observer as find_observer
from dunmist.sampling.sampler import sample as sample
from dunmist.sampling.sources import SELDOM_S as SELDOM_S
from dunmist.sampling.sources import SENSORS_S as SENSORS_S
from dunmist.sampling.sources import SOURCES as SOURCES
from dunmist.sampling.survey import Survey as Survey
