"""Reverses an act from the journal: pauses, priorities, limits, services, autostart entries."""

from pathlib import Path

from dunmist.computer import Root
from dunmist.errors import Refused
from dunmist.fixing.guards import boot_id
from dunmist.fixing.journal import (
    JournalLine,
    append,
    newest,
    next_number,
    now_text,
    read_journal,
    undone,
)
from dunmist.fixing.verbs import UNDOABLE, VERB_RULES


def undo(journal: Path, number: int | None, root: Root) -> str:
    """Reverse one act, or the last that can be; return what came of it. Raises Refused."""
    lines = read_journal(journal)
    line = _find(lines, number, journal)
    rule = VERB_RULES[line.act.verb]
    if rule.in_boot and line.boot_id != boot_id(root):
        raise Refused(
            f"act {line.number} was done before this computer was restarted (or on another "
            f"one), so there is nothing left to undo"
        )
    assert rule.undo is not None  # only such acts are found
    text = rule.undo(line, root)
    append(
        journal,
        JournalLine(
            number=next_number(lines),
            at=now_text(),
            stage="done",
            host=line.host,
            boot_id=boot_id(root),
            act=line.act,
            outcome=text,
            undoes=line.number,
        ),
    )
    return text


def undoable(lines: list[JournalLine]) -> list[JournalLine]:
    """Return the acts that can be reversed and were not, the oldest first."""
    reversed_already = undone(lines)
    return [
        line
        for number, line in _acts(lines).items()
        if line.act.verb in UNDOABLE and number not in reversed_already
    ]


def _acts(lines: list[JournalLine]) -> dict[int, JournalLine]:
    """Return the acts by number, without those that failed and those that reversed another."""
    return {
        number: line
        for number, line in newest(lines).items()
        if line.undoes is None and line.stage != "failed"
    }


def _find(lines: list[JournalLine], number: int | None, journal: Path) -> JournalLine:
    if number is None:
        left = undoable(lines)
        if not left:
            raise Refused(f"{journal}: holds no act that could be undone")
        return left[-1]
    acts = _acts(lines)
    if number not in acts:
        raise Refused(f"{journal}: holds no act {number}; see 'dunmist fix list'")
    if number in undone(lines):
        raise Refused(f"act {number} was undone already; see 'dunmist fix list'")
    if acts[number].act.verb not in UNDOABLE:
        raise Refused(
            f"act {number} ({acts[number].act.verb}) cannot be undone: start again what was ended"
        )
    return acts[number]
