"""Turns a capture into aligned arrays: rates, shares and groups over its ticks.

Takes a capture file, gives ``Series``. Intervals lie between ticks, so an array of rates has one
row less than the ticks. It judges nothing. Tables for people (pandas) are in ``series.tables``,
imported by those who need them.
"""

from dunmist.series.load import Series, load_series
from dunmist.series.machine import MachineSeries
from dunmist.series.processes import ProcessSeries
from dunmist.series.sensors import (
    ProcessorSensor,
    load_corrections,
    processor_sensor,
)

__all__ = [
    "MachineSeries",
    "ProcessSeries",
    "ProcessorSensor",
    "Series",
    "load_corrections",
    "load_series",
    "processor_sensor",
]
