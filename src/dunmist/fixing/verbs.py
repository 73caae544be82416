"""The verbs of fixing, each declared once: guard, act, undo, and the words for the owner.

Carrying out, undoing, completion and the report for the person at the desk all read this table. A
new verb is its word in ``advice/acts.py``, a step with it in ``advice/ladder.toml``, and an entry
here.
"""

from collections.abc import Callable, Mapping
from typing import NamedTuple

from dunmist.advice import Act, Target, Verb
from dunmist.computer import Root
from dunmist.fixing import autostart_switch, priorities, signals, units
from dunmist.fixing.guards import check_family, check_manager_of, check_nothing, check_processes
from dunmist.fixing.journal import JournalLine, Remembered, Result
from dunmist.fixing.suspect_pausing import check_suspect
from dunmist.fixing.unit_files import check_files, undo_install

# does an act to the processes that it concerns, and says what came of it
Doing = Callable[[Act, list[Target], Root], Result]


def remember_nothing(act: Act, targets: list[Target], root: Root) -> Remembered:
    """Remember nothing: the act itself says what to undo."""
    del act, targets, root
    return Remembered()


class VerbRule(NamedTuple):
    """Guards, action and undo of one verb."""

    guard: Callable[[Act, Root], list[Target]]  # the processes it would concern; raises Refused
    do: Doing | None  # None if a job does it, which samples meanwhile
    undo: Callable[[JournalLine, Root], str] | None  # None if nothing can undo it
    owner_text: str  # text for the owner, with {name}
    in_boot: bool = False  # its effect ends with the boot
    # reads what undoing needs
    remember: Callable[[Act, list[Target], Root], Remembered] = remember_nothing


VERB_RULES: Mapping[Verb, VerbRule] = {
    "pause": VerbRule(
        check_processes,
        signals.pause,
        signals.undo_pause,
        "The program {name} was paused. Nothing of it was lost.",
        in_boot=True,
    ),
    "resume": VerbRule(check_processes, signals.resume, None, "The program {name} was resumed."),
    "alternate": VerbRule(
        check_suspect,
        None,
        None,
        "The program {name} was paused for some seconds at a time, to see what waits for it.",
    ),
    "install-unit": VerbRule(
        check_files,
        None,
        undo_install,
        "A recorder of what the computer does ({name}) was installed.",
    ),
    "lower-priority": VerbRule(
        check_processes,
        priorities.lower_processor,
        priorities.undo_processor,
        "The program {name} now lets others go first.",
        in_boot=True,
        remember=priorities.remember_processor,
    ),
    "ordinary-priority": VerbRule(
        check_processes,
        priorities.make_ordinary,
        priorities.undo_policy,
        "The program {name} no longer runs before all others.",
        in_boot=True,
        remember=priorities.remember_policy,
    ),
    "lower-disk-priority": VerbRule(
        check_processes,
        priorities.lower_disk,
        priorities.undo_disk,
        "The program {name} now uses the disk only when nobody else does.",
        in_boot=True,
        remember=priorities.remember_disk,
    ),
    "end": VerbRule(check_processes, signals.end, None, "The program {name} was asked to end."),
    "end-family": VerbRule(
        check_family, signals.end, None, "The program {name} was ended with all that belongs to it."
    ),
    "force-end": VerbRule(
        check_processes,
        signals.force_end,
        None,
        "The program {name} did not answer any more and was ended.",
    ),
    "limit": VerbRule(
        check_manager_of,
        units.limit,
        units.undo_limit,
        "The program {name} gets a smaller part of the computer until it is started again.",
        remember=units.remember,
    ),
    "restart-unit": VerbRule(
        check_manager_of,
        units.restart,
        None,
        "A program in the background ({name}) was started again.",
    ),
    "stop-unit": VerbRule(
        check_manager_of,
        units.stop,
        units.undo_stop,
        "A program in the background ({name}) was stopped until the computer is started again.",
        remember=units.remember,
    ),
    "disable-unit": VerbRule(
        check_manager_of,
        units.disable,
        units.undo_disable,
        "A program in the background ({name}) no longer starts by itself.",
        remember=units.remember,
    ),
    "disable-timer": VerbRule(
        check_manager_of,
        units.disable_timer,
        units.undo_disable_timer,
        "A task that ran by itself ({name}) no longer does.",
        remember=units.remember,
    ),
    "disable-autostart": VerbRule(
        check_nothing,
        autostart_switch.disable,
        autostart_switch.undo_disable,
        "A program ({name}) no longer starts when you log in.",
    ),
}
UNDOABLE = frozenset(verb for verb, rule in VERB_RULES.items() if rule.undo is not None)


def owner_text(act: Act) -> str:
    """Return the owner's text of an act that was carried out."""
    name = act.targets[0].name if act.targets else (act.unit or act.file or "")
    return VERB_RULES[act.verb].owner_text.format(name=name)
