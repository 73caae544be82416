"""Which sensor stands for the processor, and what other chips belong to: data, by driver and label.

The rules are shared by the live view, which imports no NumPy, and by the series of a capture.
"""

import tomllib
from fnmatch import fnmatchcase
from functools import cache
from importlib.resources import files
from typing import Any


@cache
def sensor_choice() -> dict[str, Any]:
    """Return the rules of ``sensor_choice.toml``, the best first."""
    text = (files("dunmist.computer") / "sensor_choice.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


def is_meant(rule: dict[str, Any], chip: str, label: str | None) -> bool:
    """Whether a rule for the processor means the sensor with this driver and label."""
    return bool(chip == rule["chip"]) and fnmatchcase(label or "", rule["label"])
