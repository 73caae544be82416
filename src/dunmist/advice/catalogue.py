"""The catalogue of kinds of background work, as ``catalogue.toml`` has it."""

import re
import tomllib
from functools import cache
from importlib.resources import files
from typing import Any, NamedTuple

NOTHING = "(?!)"


class WorkKind(NamedTuple):
    """One kind of background work: what is known of it, and how it is recognised."""

    key: str
    what: str
    normal: str  # how long it may run, in words
    normal_most_s: float | None  # CPU time that is past what is normal
    trouble: str  # its usual trouble
    safe: str  # the safe treatment, and the unsafe one
    units: re.Pattern[str]  # the whole name must match, in these three
    names: re.Pattern[str]
    kernel: re.Pattern[str]
    words: frozenset[str]  # parts of a name between its punctuation
    traits: frozenset[str]  # traits, of which the program must have all
    guards: frozenset[str]  # steps of the ladder that it must not get


@cache
def catalogue() -> tuple[WorkKind, ...]:
    """Return all kinds in the order in which they are tried."""
    text = (files("dunmist.advice") / "catalogue.toml").read_text(encoding="utf-8")
    return tuple(_kind(entry) for entry in tomllib.loads(text)["kind"])


def _kind(entry: dict[str, Any]) -> WorkKind:
    # one pattern for all names of a kind: compiling is what costs; an empty list matches nothing
    units, names, kernel = (
        re.compile(rf"(?:{'|'.join(entry.get(field, (NOTHING,)))})\Z")
        for field in ("units", "names", "kernel")
    )
    return WorkKind(
        key=entry["key"],
        what=entry["what"],
        normal=entry["normal"],
        normal_most_s=entry.get("normal_most_s"),
        trouble=entry["trouble"],
        safe=entry["safe"],
        units=units,
        names=names,
        kernel=kernel,
        words=frozenset(entry.get("words", ())),
        traits=frozenset(entry.get("traits", ())),
        guards=frozenset(entry.get("guards", ())),
    )
