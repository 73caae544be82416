"""Puts a diagnosis into words and proposes fixes, safest first.

Takes a diagnosis and its series, gives a ``Triage``, the document of the contract. It runs nothing.
"""

from dunmist.advice.about import About, about_lines, about_process, what_it_is
from dunmist.advice.acts import VERBS, Act, Target, Verb
from dunmist.advice.amounts import cores_text, percent, size_text, span_text
from dunmist.advice.compose import compose_triage, first_action
from dunmist.advice.owner import Told, tell_owner
from dunmist.advice.paging import paging_sentence
from dunmist.advice.protection import protected_by_name
from dunmist.advice.rungs import Rung, application_rungs, culprit_rungs, finding_rungs
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
    "VERBS",
    "About",
    "Act",
    "CulpritAdvice",
    "Evidence",
    "FindingAdvice",
    "ResourceAdvice",
    "Rung",
    "Step",
    "Target",
    "Told",
    "Triage",
    "Verb",
    "about_lines",
    "about_process",
    "application_rungs",
    "compose_triage",
    "cores_text",
    "culprit_rungs",
    "finding_rungs",
    "first_action",
    "paging_sentence",
    "percent",
    "protected_by_name",
    "size_text",
    "span_text",
    "tell_owner",
    "what_it_is",
]
