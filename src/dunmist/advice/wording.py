"""Reads the tables of words and steps next to this module."""

import tomllib
from functools import cache
from importlib.resources import files
from typing import Any

from dunmist.series import Doubt


@cache
def wording() -> dict[str, dict[str, str]]:
    """Return the templates of ``wording.toml`` by section and key."""
    return _table("wording.toml")


@cache
def ladder() -> dict[str, Any]:
    """Return the kinds of ladder, the steps and the protected names of ``ladder.toml``."""
    return _table("ladder.toml")


@cache
def owner_wording() -> dict[str, Any]:
    """Return the words for the owner of ``owner.toml``, by section and key."""
    return _table("owner.toml")


def doubt_text(doubt: Doubt) -> str:
    """Return why the readings of a sensor cannot be true."""
    return wording()["doubt"][doubt.key].format(
        value=f"{doubt.value:.6g}", least=f"{doubt.least:g}", most=f"{doubt.most:g}"
    )


def _table(name: str) -> dict[str, Any]:
    return tomllib.loads((files("dunmist.advice") / name).read_text(encoding="utf-8"))
