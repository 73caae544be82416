"""Puts a diagnosis into words and proposes fixes, safest first.

Takes a diagnosis and its series, gives a ``Triage``, the document of the contract. It runs nothing.
"""

from dunmist.advice.amounts import cores_text, percent, size_text, span_text
from dunmist.advice.compose import compose_triage
from dunmist.advice.triage import (
    RISKS,
    CulpritAdvice,
    Evidence,
    FindingAdvice,
    ResourceAdvice,
    Step,
    Triage,
)

__all__ = [
    "RISKS",
    "CulpritAdvice",
    "Evidence",
    "FindingAdvice",
    "ResourceAdvice",
    "Step",
    "Triage",
    "compose_triage",
    "cores_text",
    "percent",
    "size_text",
    "span_text",
]
