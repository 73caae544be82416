"""The units of thresholds, as names of their types, and what all records of them share."""

import msgspec

# of a whole, from 0 to 1
Share = float
Seconds = float
Bytes = float
BytesPerSecond = float
PerSecond = float
# logical CPUs' worth of time
Cores = float
Celsius = float
Kelvin = float
Watts = float
Hours = float
Percent = float
# a count, or a figure without a unit
Number = float


class Figures(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The thresholds of one subject: each has its unit as its type, and its reason above it."""
