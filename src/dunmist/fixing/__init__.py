"""Carries out one step of the ladder, guarded, and can undo it.

Takes an act that advice has filled in, gives an outcome; each is written to a journal before and
after. It never chooses what to do, and refuses whatever would touch another process than the one
that was judged.
"""

from dunmist.fixing.carry_out import carry_out, check_act
from dunmist.fixing.effect import Effect, effect_of
from dunmist.fixing.guards import boot_id, check_capture, unit_processes
from dunmist.fixing.journal import (
    JournalLine,
    Outcome,
    Result,
    append,
    newest,
    read_journal,
    undone,
)
from dunmist.fixing.outcome_summary import brought, score, settled, tell_done
from dunmist.fixing.suspect_pausing import Alternating
from dunmist.fixing.undo import undo, undoable
from dunmist.fixing.unit_files import UnitFile, When, check_program, install, plan_units, watch_unit
from dunmist.fixing.verbs import VERB_RULES, told

__all__ = [
    "VERB_RULES",
    "Alternating",
    "Effect",
    "JournalLine",
    "Outcome",
    "Result",
    "UnitFile",
    "When",
    "append",
    "boot_id",
    "brought",
    "carry_out",
    "check_act",
    "check_capture",
    "check_program",
    "effect_of",
    "install",
    "newest",
    "plan_units",
    "read_journal",
    "score",
    "settled",
    "tell_done",
    "told",
    "undo",
    "undoable",
    "undone",
    "unit_processes",
    "watch_unit",
]
