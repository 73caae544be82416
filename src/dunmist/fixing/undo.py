"""Reverses an act from the journal: pauses, priorities, limits, services, autostart entries."""

import signal
from collections.abc import Callable
from pathlib import Path

from dunmist.advice import Verb
from dunmist.computer import Root
from dunmist.errors import Refused
from dunmist.fixing.carry_out import ON_UNITS
from dunmist.fixing.guards import boot_id
from dunmist.fixing.held import Held, hold
from dunmist.fixing.journal import (
    Entry,
    append,
    newest,
    next_number,
    now_text,
    read_journal,
    undone,
)
from dunmist.fixing.login_entries import enable_entry
from dunmist.fixing.priorities import Before, restore_disk_priority, restore_priority
from dunmist.fixing.units import UNDOES, undo_on_unit

RESTORES: dict[Verb, Callable[[Root, Held, Before], None]] = {
    "lower-priority": restore_priority,
    "lower-disk-priority": restore_disk_priority,
}
ON_PROCESSES: frozenset[Verb] = frozenset(("pause", *RESTORES))
UNDOABLE: frozenset[Verb] = ON_PROCESSES | frozenset(UNDOES) | frozenset(("disable-autostart",))


def undo(journal: Path, number: int | None, root: Root) -> str:
    """Reverse one act, or the last that can be; return what came of it. Raises Refused."""
    entries = read_journal(journal)
    entry = _find(entries, number, journal)
    if entry.act.verb in ON_PROCESSES and entry.boot_id != boot_id(root):
        raise Refused(
            f"act {entry.number} was done before this computer was started anew (or on another "
            f"one), so there is nothing left to undo"
        )
    text = _reverse(entry, root)
    append(
        journal,
        Entry(
            number=next_number(entries), at=now_text(), stage="done", host=entry.host,
            boot_id=boot_id(root), act=entry.act, outcome=text, undoes=entry.number,
        ),
    )  # fmt: skip
    return text


def _find(entries: list[Entry], number: int | None, journal: Path) -> Entry:
    done = {
        entry.number: entry
        for entry in newest(entries).values()
        if entry.undoes is None and entry.stage != "failed"
    }
    if number is None:
        open_ones = [
            one for one in done if done[one].act.verb in UNDOABLE and one not in undone(entries)
        ]
        if not open_ones:
            raise Refused(f"{journal}: holds no act that could be undone")
        return done[open_ones[-1]]
    if number not in done:
        raise Refused(f"{journal}: holds no act {number}; see 'dunmist fix --list'")
    if number in undone(entries):
        raise Refused(f"act {number} was undone already; see 'dunmist fix --list'")
    if done[number].act.verb not in UNDOABLE:
        raise Refused(
            f"act {number} ({done[number].act.verb}) cannot be undone: start again what was ended"
        )
    return done[number]


def _reverse(entry: Entry, root: Root) -> str:
    act = entry.act
    if act.verb in ON_UNITS:
        return f"{act.unit} is now {undo_on_unit(act)}"
    if act.verb == "disable-autostart":
        return f"changed {enable_entry(act)}"
    with hold(root, act.targets) as held:
        if not held:
            raise Refused(
                f"the processes of act {entry.number} have ended, nothing is left to undo"
            )
        for one in held:
            if act.verb == "pause":
                one.send(signal.SIGCONT)
            else:
                _restore(entry, one, root)
        word = "going on" if act.verb == "pause" else "as before"
        return f"{len(held)} of {len(act.targets)} processes are {word}"


def _restore(entry: Entry, held: Held, root: Root) -> None:
    try:
        RESTORES[entry.act.verb](root, held, entry.before.get(held.target.pid, {}))
    except PermissionError as error:
        raise Refused(
            f"process {held.target.pid} ({held.target.name}): only the administrator may raise a "
            f"priority again; run 'dunmist fix --undo {entry.number}' as administrator"
        ) from error
