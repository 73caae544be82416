"""The catalogue of kinds of background work, as ``catalogue.toml`` has it."""

import re
import tomllib
from functools import cache
from importlib.resources import files
from typing import Any, NamedTuple


class Kind(NamedTuple):
    """One kind of background work: what is to be known of it, and how it is recognised.

    ``units``, ``names`` and ``kernel`` are patterns of whole names, ``words`` are parts of names
    between marks, ``signs`` must all be there. ``guards`` are words
    that keep steps of the ladder away from it.
    """

    key: str
    what: str
    normal: str
    trouble: str
    safe: str
    units: tuple[re.Pattern[str], ...]
    names: tuple[re.Pattern[str], ...]
    kernel: tuple[re.Pattern[str], ...]
    words: frozenset[str]
    signs: frozenset[str]
    guards: frozenset[str]


@cache
def catalogue() -> tuple[Kind, ...]:
    """Return all kinds in the order in which they are tried."""
    text = (files("dunmist.advice") / "catalogue.toml").read_text(encoding="utf-8")
    return tuple(_kind(entry) for entry in tomllib.loads(text)["kind"])


def _kind(entry: dict[str, Any]) -> Kind:
    units, names, kernel = (
        tuple(re.compile(f"(?:{pattern})\\Z") for pattern in entry.get(place, ()))
        for place in ("units", "names", "kernel")
    )
    return Kind(
        key=entry["key"],
        what=entry["what"],
        normal=entry["normal"],
        trouble=entry["trouble"],
        safe=entry["safe"],
        units=units,
        names=names,
        kernel=kernel,
        words=frozenset(entry.get("words", ())),
        signs=frozenset(entry.get("signs", ())),
        guards=frozenset(entry.get("guards", ())),
    )
