"""Turns the figures of a diagnosis into sentences, each as its table declares it.

``evidence.toml`` has for each key its unit, its source, its slots, and its sentence; the keys of
a resource are in ``resources.toml``. No figure is worded anywhere else.
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
from dunmist.advice.resource_words import DeclaredEvidence, resource_words
from dunmist.advice.triage import Evidence
from dunmist.advice.wording import doubt_text, wording
from dunmist.diagnosis import EvidenceFigure, Slot
from dunmist.series import Doubt


@cache
def declared_evidence() -> dict[str, DeclaredEvidence]:
    """Return all keys with what is declared of them."""
    text = (files("dunmist.advice") / "evidence.toml").read_text(encoding="utf-8")
    declared = msgspec.convert(tomllib.loads(text), dict[str, DeclaredEvidence])
    for words in resource_words().values():
        declared |= words.evidence
    return declared


def evidence_of(evidence: list[EvidenceFigure]) -> list[Evidence]:
    """Return figures as the contract has them, in words and as numbers."""
    return [_evidence(figure, declared_evidence()[figure.key]) for figure in evidence]


def _evidence(figure: EvidenceFigure, about: DeclaredEvidence) -> Evidence:
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
