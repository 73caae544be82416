"""Carries out one step of the ladder, guarded, and can undo it.

Takes an act that advice has filled in, gives an outcome; each is written to a journal before and
after. It never chooses what to do, and refuses whatever would touch another process than the one
that was judged.
"""

from dunmist.fixing.carry_out import carry_out as carry_out
from dunmist.fixing.carry_out import check_act as check_act
from dunmist.fixing.effect import Effect as Effect
from dunmist.fixing.effect import effect_of as effect_of
from dunmist.fixing.guards import boot_id as boot_id
from dunmist.fixing.guards import check_capture as check_capture
from dunmist.fixing.guards import is_of_earlier_boot as is_of_earlier_boot
from dunmist.fixing.guards import unit_processes as unit_processes
from dunmist.fixing.journal import JournalLine as JournalLine
from dunmist.fixing.journal import Outcome as Outcome
from dunmist.fixing.journal import Result as Result
from dunmist.fixing.journal import append as append
from dunmist.fixing.journal import newest as newest
from dunmist.fixing.journal import read_journal as read_journal
from dunmist.fixing.journal import undone as undone
from dunmist.fixing.outcome_summary import brought as brought
from dunmist.fixing.outcome_summary import describe_done as describe_done
from dunmist.fixing.outcome_summary import score as score
from dunmist.fixing.outcome_summary import settled as settled
from dunmist.fixing.suspect_pausing import Alternating as Alternating
from dunmist.fixing.undo import undo as undo
from dunmist.fixing.undo import undoable as undoable
from dunmist.fixing.unit_files import UnitFile as UnitFile
from dunmist.fixing.unit_files import When as When
from dunmist.fixing.unit_files import check_program as check_program
from dunmist.fixing.unit_files import install as install
from dunmist.fixing.unit_files import plan_units as plan_units
from dunmist.fixing.unit_files import watch_unit as watch_unit
from dunmist.fixing.verbs import VERB_RULES as VERB_RULES
from dunmist.fixing.verbs import owner_text as owner_text
