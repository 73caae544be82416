"""Reads the table of figures that the rules use, ``thresholds.toml`` beside this module."""

import tomllib
from collections.abc import Mapping
from functools import cache
from importlib.resources import files

Thresholds = Mapping[str, Mapping[str, float]]


@cache
def thresholds() -> Thresholds:
    """Return each figure by its subject and name."""
    text = (files("dunmist.diagnosis") / "thresholds.toml").read_text(encoding="utf-8")
    table: Thresholds = tomllib.loads(text)
    return table
