"""Asks about and carries out acts on this computer, with the journal in its place."""

import pwd
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from dunmist.advice import Act, Target
from dunmist.captures import Header
from dunmist.computer import Root
from dunmist.errors import Refused
from dunmist.fixing import (
    JournalLine,
    Outcome,
    Result,
    UnitFile,
    append,
    carry_out,
    check_act,
    check_capture,
    describe_done,
    install,
    newest,
    owner_text,
    read_journal,
    undo,
    undoable,
    undone,
    unit_processes,
)
from dunmist.jobs.capture import header_of, read_subject
from dunmist.jobs.settings import journal_path, plans_directory
from dunmist.sampling import Plan

if TYPE_CHECKING:
    from dunmist.jobs.measure import Measured


def this_computer() -> Root:
    """Return the root of the computer that acts are carried out on."""
    return Root(Path("/"))


def affected(header: Header, wanted: Act) -> list[Target]:
    """Return every process that an act would concern right now; raises Refused.

    For an act on a unit that is the whole unit. Each has the name of its owner.
    """
    root = this_computer()
    check_capture(header, root)
    targets = check_act(wanted, root)
    known = {target.pid for target in targets}
    targets += [process for process in unit_processes(wanted, root) if process.pid not in known]
    return [
        target if target.user else msgspec.structs.replace(target, user=_user(target))
        for target in targets
    ]


def _user(target: Target) -> str:
    try:
        return pwd.getpwuid(-1 if target.uid is None else target.uid).pw_name
    except KeyError:
        return f"user {target.uid}"


def refusal(header: Header, wanted: Act) -> str | None:
    """Return why an act would be refused right now, None when it would be carried out."""
    try:
        affected(header, wanted)
    except Refused as error:
        return str(error)
    return None


def do_act(header: Header, wanted: Act) -> Outcome:
    """Carry an act out and write it down; raises Refused when it must not be done."""
    return carry_out(wanted, header, this_computer(), journal_path())


def keep_effect(number: int, measured: "Measured") -> None:
    """Record the measured effect of an act; raises Refused."""
    journal = journal_path()
    line = newest(read_journal(journal))[number]
    append(
        journal,
        msgspec.structs.replace(
            line, effect=measured.effect, expected=measured.expected, freed=measured.freed
        ),
    )


def install_units(act: Act, parts: Sequence[UnitFile]) -> Outcome:
    """Install units of our own and write that down; raises Refused."""
    root = this_computer()
    header = header_of(root, read_subject(root), Plan(1.0, 1.0), datetime.now(UTC))
    plans_directory().mkdir(parents=True, exist_ok=True, mode=0o700)

    def do(act: Act, targets: list[Target], root: Root) -> Result:
        del targets, root
        return install(act, parts)

    return carry_out(act, header, root, journal_path(), do)


def undo_act(number: int | None) -> str:
    """Reverse an act of the journal, the last that can be without a number; raises Refused."""
    return undo(journal_path(), number, this_computer())


def past_acts() -> list[JournalLine]:
    """Return past acts with what came of them, the oldest first; raises Refused."""
    return list(newest(read_journal(journal_path())).values())


def acts_to_undo() -> list[JournalLine]:
    """Return past acts that can still be reversed; raises Refused."""
    return undoable(read_journal(journal_path()))


def acts_done(header: Header) -> list[str]:
    """Return the owner's text of what was done on the computer of a capture in its boot."""
    return [owner_text(entry.act) for entry in _done_on(header)]


def done_until(header: Header, end_s: float) -> list[str]:
    """Return the acts on the computer of a capture in its boot, up to a time in it.

    ``end_s`` is seconds after the first tick.
    """
    until = datetime.fromisoformat(header.started) + timedelta(seconds=end_s)
    return [
        describe_done(entry)
        for entry in _done_on(header)
        if datetime.fromisoformat(entry.at) <= until
    ]


def done_within(header: Header, end_s: float) -> list[float]:
    """Return when something was done while a capture was taken, in seconds after its first tick."""
    began = datetime.fromisoformat(header.started)
    after_s = (
        (datetime.fromisoformat(entry.at) - began).total_seconds() for entry in _done_on(header)
    )
    return sorted(at_s for at_s in after_s if 0 < at_s < end_s)


def _done_on(header: Header) -> list[JournalLine]:
    lines = read_journal(journal_path())
    taken_back = undone(lines)
    return [
        entry
        for entry in newest(lines).values()
        if entry.stage == "done"
        and entry.undoes is None
        and entry.number not in taken_back
        and entry.boot_id is not None
        and entry.boot_id == header.machine.boot_id
    ]
