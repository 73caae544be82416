"""Puts a diagnosis into words and proposes fixes, safest first.

Takes a diagnosis and its series, gives ``Judged``: a case for each application and finding, and the
``Triage``, the document of the contract. It runs nothing.
"""

from dunmist.advice.acts import VERBS, Act, Target, Verb
from dunmist.advice.amounts import (
    cores_text,
    freed_amount,
    freed_text,
    percent,
    size_text,
    span_text,
)
from dunmist.advice.autostart_entries import (
    OFF,
    OVERRIDE,
    OWN,
    disable_command,
    enable_command,
    override_name,
)
from dunmist.advice.case import Case, Cases
from dunmist.advice.catalogue import catalogue
from dunmist.advice.comparing import (
    Compared,
    ComparedFigure,
    compared_amount,
    tell_comparison,
    tell_unusual,
)
from dunmist.advice.evidence import declared_evidence
from dunmist.advice.ladder_steps import FilledStep, act_against
from dunmist.advice.owner import Told, tell_owner
from dunmist.advice.program_facts import About, about_lines, what_it_is
from dunmist.advice.protection import protected_by_name, protected_unit
from dunmist.advice.proving import tell_proof, tell_unprovable
from dunmist.advice.recognition import GUESSES
from dunmist.advice.triage import (
    RISKS,
    CulpritAdvice,
    Evidence,
    FindingAdvice,
    Frees,
    ResourceAdvice,
    Step,
    Triage,
)
from dunmist.advice.triage_builder import Around, Judged, advise
from dunmist.advice.verdict_text import first_action, paging_sentence
from dunmist.advice.wording import doubt_text, ladder, owner_wording, wording

__all__ = [
    "GUESSES",
    "OFF",
    "OVERRIDE",
    "OWN",
    "RISKS",
    "VERBS",
    "About",
    "Act",
    "Around",
    "Case",
    "Cases",
    "Compared",
    "ComparedFigure",
    "CulpritAdvice",
    "Evidence",
    "FilledStep",
    "FindingAdvice",
    "Frees",
    "Judged",
    "ResourceAdvice",
    "Step",
    "Target",
    "Told",
    "Triage",
    "Verb",
    "about_lines",
    "act_against",
    "advise",
    "catalogue",
    "compared_amount",
    "cores_text",
    "declared_evidence",
    "disable_command",
    "doubt_text",
    "enable_command",
    "first_action",
    "freed_amount",
    "freed_text",
    "ladder",
    "override_name",
    "owner_wording",
    "paging_sentence",
    "percent",
    "protected_by_name",
    "protected_unit",
    "size_text",
    "span_text",
    "tell_comparison",
    "tell_owner",
    "tell_proof",
    "tell_unprovable",
    "tell_unusual",
    "what_it_is",
    "wording",
]
