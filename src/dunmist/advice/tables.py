"""Reads the tables of words and steps that lie beside this module."""

import tomllib
from functools import cache
from importlib.resources import files
from typing import Any


@cache
def wording() -> dict[str, dict[str, str]]:
    """Return the templates of ``wording.toml`` by section and key."""
    return _table("wording.toml")


@cache
def ladder() -> dict[str, Any]:
    """Return the kinds of ladder, the steps and the protected names of ``ladder.toml``."""
    return _table("ladder.toml")


def _table(name: str) -> dict[str, Any]:
    return tomllib.loads((files("dunmist.advice") / name).read_text(encoding="utf-8"))
