"""All that is said of each resource, as ``resources.toml`` declares it."""

import tomllib
from functools import cache
from importlib.resources import files

import msgspec


class DeclaredEvidence(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One key of evidence as a table declares it."""

    unit: str  # of the figure itself
    source: str  # the file, man page or kernel document it comes from
    text: str  # with {amount} and the slots
    slots: dict[str, str] = {}  # unit of each further value in the text
    counts: str | None = None  # the noun of a count, for a figure without a unit

    @property
    def shown_unit(self) -> str:
        """The unit as programs read it: what is counted, where it is counted."""
        return self.counts or self.unit


class ResourceWords(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The words for one resource; ``None`` where nothing is ever said."""

    name: str
    drives: str | None = None  # the use that a program makes of it, with {amount}
    together: str | None = None  # the same of several programs
    owner: str | None = None  # to the owner of the computer, where it limits
    owner_watch: str | None = None  # a request to report later trouble
    evidence: dict[str, DeclaredEvidence] = {}  # of its levels, by key


@cache
def resource_words() -> dict[str, ResourceWords]:
    """Return what is said of each resource, by its word."""
    text = (files("dunmist.advice") / "resources.toml").read_text(encoding="utf-8")
    return msgspec.convert(tomllib.loads(text), dict[str, ResourceWords])


def resource_name(resource: str) -> str:
    """Return the name of a resource, as it stands inside a sentence."""
    return resource_words()[resource].name
