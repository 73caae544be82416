"""Carries out one act: checks, journal, the act itself, and what came of it."""

from pathlib import Path

import msgspec

from dunmist.advice import Act, Target
from dunmist.captures import Header
from dunmist.computer import Root
from dunmist.errors import Refused
from dunmist.fixing.guards import boot_id
from dunmist.fixing.journal import JournalLine, Outcome, append, next_number, now_text, read_journal
from dunmist.fixing.verbs import VERB_RULES


def check_act(act: Act, root: Root) -> list[Target]:
    """Return the processes that an act would concern now; raises Refused where it must not be."""
    return VERB_RULES[act.verb].guard(act, root)


def carry_out(act: Act, header: Header, root: Root, journal: Path) -> Outcome:
    """Carry out an act and write it down before and after; raises Refused when it must not be."""
    targets = check_act(act, root)
    number = next_number(read_journal(journal))
    begun = JournalLine(
        number=number, at=now_text(), stage="begun", host=header.machine.host,
        boot_id=boot_id(root), act=msgspec.structs.replace(act, targets=targets),
    )  # fmt: skip
    # written before anything is done: a crash in between leaves a trace
    append(journal, begun)
    try:
        result = VERB_RULES[act.verb].do(act, targets, root)
    # a failed act is told and written down, so that undo does not offer it
    except (OSError, Refused) as error:
        append(journal, msgspec.structs.replace(begun, stage="failed", outcome=str(error)))
        raise
    append(
        journal,
        msgspec.structs.replace(
            begun, at=now_text(), stage="done", outcome=result.text, before=result.before or {}
        ),
    )
    return Outcome(result.text, result.worked, number)
