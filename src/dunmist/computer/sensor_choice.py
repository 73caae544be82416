"""Choose the sensor of the CPU, and name the parts of other chips: data, by driver and label.

The rules are shared by the live view, which imports no NumPy, and by the series of a capture.
"""

import re
import tomllib
from collections.abc import Mapping, Sequence
from fnmatch import fnmatchcase
from functools import cache
from pathlib import Path
from typing import Any

TABLE = Path(__file__).with_name("sensor_choice.toml")
# chips call the same limit by different names; the most severe that is published counts
CRITICAL = ("crit", "critical", "emergency", "max", "hot")


@cache
def sensor_choice() -> dict[str, Any]:
    """Return the rules of ``sensor_choice.toml``, the best first."""
    text = TABLE.read_text(encoding="utf-8")
    return tomllib.loads(text)


def is_meant(rule: dict[str, Any], chip: str, label: str | None) -> bool:
    """Whether a rule for the processor means the sensor with this driver and label."""
    return bool(chip == rule["chip"]) and fnmatchcase(label or "", rule["label"])


def part_of(chip: str) -> str:
    """Return the part of the computer that a driver's sensors measure."""
    rules = sensor_choice()["part"]
    return next(str(rule["is"]) for rule in rules if re.fullmatch(rule["chip"], chip, re.S))


def limit_of(limits: Mapping[str, float], names: Sequence[str] = CRITICAL) -> float | None:
    """Return the first limit in degrees that a driver publishes of some, None without any.

    ``limits`` are in SI units. Drivers that know no limit publish 0, or the greatest or smallest
    number there is.
    """
    low, high = sensor_choice()["plausible"]["temperature"]
    return next((limits[n] for n in names if n in limits and max(low, 0) < limits[n] <= high), None)
