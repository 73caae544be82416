"""Puts a diagnosis into words and proposes fixes, safest first.

Takes a diagnosis and its series, gives ``Judged``: a case for each application and finding, and the
``Triage``, the document of the contract. It runs nothing.
"""

from dunmist.advice.acts import VERBS as VERBS
from dunmist.advice.acts import Act as Act
from dunmist.advice.acts import Target as Target
from dunmist.advice.acts import Verb as Verb
from dunmist.advice.amounts import cores_text as cores_text
from dunmist.advice.amounts import freed_amount as freed_amount
from dunmist.advice.amounts import freed_text as freed_text
from dunmist.advice.amounts import percent as percent
from dunmist.advice.amounts import size_text as size_text
from dunmist.advice.amounts import span_text as span_text
from dunmist.advice.autostart_entries import OFF as OFF
from dunmist.advice.autostart_entries import OVERRIDE as OVERRIDE
from dunmist.advice.autostart_entries import OWN as OWN
from dunmist.advice.autostart_entries import disable_command as disable_command
from dunmist.advice.autostart_entries import enable_command as enable_command
from dunmist.advice.autostart_entries import override_name as override_name
from dunmist.advice.case import Case as Case
from dunmist.advice.case import Cases as Cases
from dunmist.advice.catalogue import catalogue as catalogue
from dunmist.advice.code_kinds import code_kinds as code_kinds
from dunmist.advice.code_kinds import file_name as file_name
from dunmist.advice.code_kinds import kind_of_code as kind_of_code
from dunmist.advice.code_work import work_shares as work_shares
from dunmist.advice.comparing import Compared as Compared
from dunmist.advice.comparing import ComparedFigure as ComparedFigure
from dunmist.advice.comparing import compared_amount as compared_amount
from dunmist.advice.comparing import tell_comparison as tell_comparison
from dunmist.advice.comparing import tell_unusual as tell_unusual
from dunmist.advice.doing import doing_text as doing_text
from dunmist.advice.evidence import declared_evidence as declared_evidence
from dunmist.advice.ladder_steps import FilledStep as FilledStep
from dunmist.advice.ladder_steps import act_against as act_against
from dunmist.advice.owner import Told as Told
from dunmist.advice.owner import tell_owner as tell_owner
from dunmist.advice.program_facts import About as About
from dunmist.advice.program_facts import about_lines as about_lines
from dunmist.advice.program_facts import what_it_is as what_it_is
from dunmist.advice.protection import protected_by_name as protected_by_name
from dunmist.advice.protection import protected_unit as protected_unit
from dunmist.advice.proving import tell_proof as tell_proof
from dunmist.advice.proving import tell_unprovable as tell_unprovable
from dunmist.advice.recent_changes import change_text as change_text
from dunmist.advice.recent_changes import recent_changes as recent_changes
from dunmist.advice.recognition import GUESSES as GUESSES
from dunmist.advice.triage import RISKS as RISKS
from dunmist.advice.triage import CulpritAdvice as CulpritAdvice
from dunmist.advice.triage import Doing as Doing
from dunmist.advice.triage import Evidence as Evidence
from dunmist.advice.triage import FindingAdvice as FindingAdvice
from dunmist.advice.triage import Frees as Frees
from dunmist.advice.triage import ResourceAdvice as ResourceAdvice
from dunmist.advice.triage import Step as Step
from dunmist.advice.triage import Triage as Triage
from dunmist.advice.triage_builder import Around as Around
from dunmist.advice.triage_builder import Judged as Judged
from dunmist.advice.triage_builder import advise as advise
from dunmist.advice.verdict_text import first_action as first_action
from dunmist.advice.verdict_text import paging_sentence as paging_sentence
from dunmist.advice.wording import doubt_text as doubt_text
from dunmist.advice.wording import ladder as ladder
from dunmist.advice.wording import owner_wording as owner_wording
from dunmist.advice.wording import wording as wording
