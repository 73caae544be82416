"""Carries out one act: checks, journal, the act itself, and what came of it."""

from pathlib import Path

import msgspec

from dunmist.advice import Act, Target
from dunmist.captures import Header
from dunmist.computer import Root
from dunmist.errors import DunmistError, Stopped
from dunmist.fixing.guards import boot_id
from dunmist.fixing.journal import JournalLine, Outcome, append, next_number, now_text, read_journal
from dunmist.fixing.verbs import VERB_RULES, Doing


def check_act(act: Act, root: Root) -> list[Target]:
    """Return the processes that an act would concern now; raises Refused where it must not be."""
    return VERB_RULES[act.verb].guard(act, root)


def carry_out(
    act: Act, header: Header, root: Root, journal: Path, do: Doing | None = None
) -> Outcome:
    """Carry out an act and write it down before and after; raises Refused when it must not be.

    ``do`` is how, if the verb alone does not say it.
    """
    targets, rule = check_act(act, root), VERB_RULES[act.verb]
    doing = do or rule.do
    assert doing is not None  # such a verb always has it
    number = next_number(read_journal(journal))
    # read before anything is done, so that undoing knows it however the act ends
    remembered = rule.remember(act, targets, root)
    begun = JournalLine(
        number=number,
        at=now_text(),
        stage="begun",
        host=header.machine.host,
        boot_id=boot_id(root),
        act=msgspec.structs.replace(act, targets=targets),
        before=dict(remembered.threads),
        unit_before=remembered.unit,
    )
    # written before anything is done: a crash in between leaves a trace
    append(journal, begun)
    try:
        result = doing(act, targets, root)
    except KeyboardInterrupt as stop:
        # the journal keeps it as begun, with all that undoing it needs
        raise Stopped(
            f"stopped in the middle of act {number}; 'dunmist fix undo {number}' takes back "
            f"what was done of it, where that can be"
        ) from stop
    except (OSError, DunmistError) as error:
        # reported and recorded, so that undo does not offer it
        append(journal, msgspec.structs.replace(begun, stage="failed", outcome=str(error)))
        raise
    append(
        journal, msgspec.structs.replace(begun, at=now_text(), stage="done", outcome=result.text)
    )
    return Outcome(result.text, result.worked, number)
