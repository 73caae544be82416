"""Chapters of the demo that take several captures of one computer, from ``chapters.toml``."""

import tomllib
from functools import cache
from importlib.resources import files

import msgspec

from dunmist.errors import UnknownName
from dunmist.simulation.model import SEED
from dunmist.simulation.scenario import Scenario, load_scenario


class Visit(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One capture of a patient; ``started`` is when, if not when the patient says."""

    patient: str
    started: str | None = None
    seed: int = SEED

    @property
    def scenario(self) -> Scenario:
        """The patient at that time."""
        scenario = load_scenario(self.patient)
        if self.started is None:
            return scenario
        machine = msgspec.structs.replace(scenario.machine, started=self.started)
        return msgspec.structs.replace(scenario, machine=machine)


class Chapter(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Several captures of before, or of good times, and the one of now."""

    story: str
    before: list[Visit]
    now: Visit


def chapter_names() -> list[str]:
    """Return the names of all chapters."""
    return list(_chapters())


def load_chapter(name: str) -> Chapter:
    """Return a chapter by name; raises UnknownName."""
    if name not in _chapters():
        raise UnknownName(f"unknown chapter '{name}'; choose from {', '.join(_chapters())}")
    return _chapters()[name]


@cache
def _chapters() -> dict[str, Chapter]:
    text = (files("dunmist.simulation") / "chapters.toml").read_text(encoding="utf-8")
    return msgspec.convert(tomllib.loads(text), dict[str, Chapter])
