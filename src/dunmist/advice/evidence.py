"""Turns the figures of a diagnosis into sentences, each as ``evidence.toml`` declares it.

The table has for each key its unit, its source, its slots, and its sentence; no figure
is worded anywhere else.
"""

import math
import tomllib
from functools import cache
from importlib.resources import files

import msgspec

from dunmist.advice.amounts import (
    amount_text,
    date_text,
    percent,
    plain_number,
    size_text,
    span_text,
)
from dunmist.advice.triage import Evidence
from dunmist.advice.wording import doubt_text, wording
from dunmist.diagnosis import EvidenceFigure, Slot
from dunmist.series import Doubt


class Declared(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One key of evidence as evidence.toml declares it."""

    unit: str  # of the figure itself
    source: str  # the file, man page or kernel document it comes from
    text: str  # with {amount} and the slots
    slots: dict[str, str] = {}  # unit of each further value in the text
    counts: str | None = None  # what is counted, for a figure without a unit

    @property
    def shown_unit(self) -> str:
        """The unit as programs read it: what is counted, where it is counted."""
        return self.counts or self.unit


@cache
def declared_evidence() -> dict[str, Declared]:
    """Return all keys with what is declared of them."""
    text = (files("dunmist.advice") / "evidence.toml").read_text(encoding="utf-8")
    return msgspec.convert(tomllib.loads(text), dict[str, Declared])


def evidence_of(evidence: list[EvidenceFigure]) -> list[Evidence]:
    """Return figures as the contract has them, in words and as numbers."""
    return [_evidence(figure, declared_evidence()[figure.key]) for figure in evidence]


def _evidence(figure: EvidenceFigure, about: Declared) -> Evidence:
    texts = {name: _slot_text(figure.slots.get(name), unit) for name, unit in about.slots.items()}
    of = figure.slots.get("of")
    amount = amount_text(figure.value, about.unit, of if isinstance(of, float) else None)
    return Evidence(
        text=about.text.format(amount=amount, **texts),
        value=rounded(figure.value),
        unit=about.shown_unit,
        source=about.source.format(**texts),
    )


def _slot_text(value: Slot, unit: str) -> str:
    if value is None:
        return wording()["unknown"]["slot"]
    if isinstance(value, Doubt):
        return doubt_text(value)
    if isinstance(value, list):
        return ", ".join(part if isinstance(part, str) else " at ".join(part) for part in value)
    if isinstance(value, str):
        return value
    if unit == "bytes":
        return size_text(value)
    if unit == "s":
        return span_text(value)
    if unit == "date":
        return date_text(value)
    return percent(value) if unit == "share" else plain_number(value)


def rounded(value: float) -> float:
    """Return a figure to the digits that it has; an unknown figure is 0."""
    return 0.0 if math.isnan(value) else float(f"{value:.4g}")
