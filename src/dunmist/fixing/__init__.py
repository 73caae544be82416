"""Carries out one step of the ladder, guarded, and can undo it.

Takes an act that advice has filled in, gives an outcome; each is written to a journal before and
after. It never chooses what to do, and refuses whatever would touch another process than the one
that was judged.
"""

from dunmist.fixing.carry_out import carry_out, check_act
from dunmist.fixing.effect import Effect, effect_of
from dunmist.fixing.guards import check_capture
from dunmist.fixing.journal import JournalLine, Outcome, newest, read_journal, undone
from dunmist.fixing.undo import undo, undoable
from dunmist.fixing.verbs import VERB_RULES, told

__all__ = [
    "VERB_RULES",
    "Effect",
    "JournalLine",
    "Outcome",
    "carry_out",
    "check_act",
    "check_capture",
    "effect_of",
    "newest",
    "read_journal",
    "told",
    "undo",
    "undoable",
    "undone",
]
