"""Carries out one act: checks, journal, the act itself, and what came of it."""

import signal
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import msgspec

from dunmist.advice import Act, Target, Verb
from dunmist.captures import Header
from dunmist.computer import Root
from dunmist.errors import Refused
from dunmist.fixing.guards import boot_id, check_targets
from dunmist.fixing.held import Held, hold, read_stat
from dunmist.fixing.journal import Entry, append, next_number, now_text, read_journal
from dunmist.fixing.live import Live, came_back, family, read_live
from dunmist.fixing.login_entries import disable_entry
from dunmist.fixing.priorities import Before, lower_disk_priority, lower_priority
from dunmist.fixing.units import act_on_unit, check_manager

SIGNALS: dict[Verb, signal.Signals] = {
    "pause": signal.SIGSTOP,
    "resume": signal.SIGCONT,
    "end": signal.SIGTERM,
    "end-family": signal.SIGTERM,
    "force-end": signal.SIGKILL,
}
PRIORITIES: dict[Verb, Callable[[Root, Held], Before]] = {
    "lower-priority": lower_priority,
    "lower-disk-priority": lower_disk_priority,
}
ON_UNITS: frozenset[Verb] = frozenset(
    ("limit", "restart-unit", "stop-unit", "disable-unit", "disable-timer")
)
ENDING: frozenset[Verb] = frozenset(("end", "end-family", "force-end"))
END_S, BACK_S, STOP_S, LOOK_EVERY_S = 5.0, 2.0, 2.0, 0.1


class Outcome(NamedTuple):
    """What came of an act; ``worked`` says whether it did what it was for."""

    text: str
    worked: bool
    number: int


class _Result(NamedTuple):
    text: str
    worked: bool
    before: dict[int, Before]


def check_act(act: Act, root: Root) -> list[Target]:
    """Return the processes that an act would concern now; raises Refused where it must not be."""
    live = read_live(root)
    targets = [
        one
        for one in act.targets
        if one.pid in live and live[one.pid].stat.start_clk == one.start_clk
    ]
    if act.verb in ON_UNITS:
        check_manager(act)
        return targets
    if act.verb == "disable-autostart":
        return targets
    if not targets:
        numbers = ", ".join(str(one.pid) for one in act.targets[:8])
        raise Refused(
            f"process {numbers or '(none)'} has ended since the capture, and its number may belong "
            f"to another one; capture again"
        )
    if act.verb == "end-family":
        targets += family(live, targets)
    check_targets(live, targets)
    return targets


def carry_out(act: Act, header: Header, root: Root, journal: Path) -> Outcome:
    """Carry out an act and write it down before and after; raises Refused when it must not be."""
    targets = check_act(act, root)
    number = next_number(read_journal(journal))
    entry = Entry(
        number=number, at=now_text(), stage="begun", host=header.machine.host,
        boot_id=boot_id(root), act=msgspec.structs.replace(act, targets=targets),
    )  # fmt: skip
    append(journal, entry)
    try:
        result = _do(act, targets, root)
    except (OSError, Refused) as error:
        append(journal, msgspec.structs.replace(entry, stage="failed", outcome=str(error)))
        raise
    append(
        journal,
        msgspec.structs.replace(
            entry, at=now_text(), stage="done", outcome=result.text, before=result.before
        ),
    )
    return Outcome(result.text, result.worked, number)


def _do(act: Act, targets: list[Target], root: Root) -> _Result:
    if act.verb in ON_UNITS:
        state = act_on_unit(act)
        return _Result(f"{act.unit} is now {state}", True, {})
    if act.verb == "disable-autostart":
        return _Result(f"changed {disable_entry(act)}", True, {})
    with hold(root, targets) as held:
        if act.verb in PRIORITIES:
            before = {one.target.pid: PRIORITIES[act.verb](root, one) for one in held}
            threads = sum(map(len, before.values()))
            return _Result(
                f"set for {threads} threads of {len(held)} processes", bool(held), before
            )
        if act.verb in ENDING:
            return _end(act.verb, held, root)
        return _stop_or_go(act.verb, held, root)


def _stop_or_go(verb: Verb, held: list[Held], root: Root) -> _Result:
    for one in held:
        one.send(SIGNALS[verb])
    deadline_s = time.monotonic() + STOP_S
    while (done := _in_state(verb, held, root)) < len(held) and time.monotonic() < deadline_s:
        time.sleep(LOOK_EVERY_S)
    word = "paused" if verb == "pause" else "going on"
    return _Result(f"{done} of {len(held)} processes are {word}", done == len(held), {})


def _in_state(verb: Verb, held: list[Held], root: Root) -> int:
    """Return how many of the processes are stopped, or no longer stopped."""
    states = [stat.state for one in held if (stat := read_stat(root, one.target.pid))]
    return sum((state in "Tt") == (verb == "pause") for state in states)


def _end(verb: Verb, held: list[Held], root: Root) -> _Result:
    before = read_live(root)
    for one in held:
        one.send(SIGNALS[verb])
        # one that is stopped notices a polite signal only when it goes on
        one.send(signal.SIGCONT)
    deadline_s = time.monotonic() + END_S
    for one in held:
        one.has_ended(max(0.0, deadline_s - time.monotonic()))
    ended = [one.target.pid for one in held if one.has_ended()]
    left = [one.target.pid for one in held if one.target.pid not in ended]
    if left:
        numbers = " ".join(map(str, left))
        return _Result(f"closed {len(ended)}, still running: {numbers}", False, {})
    back = _wait_for_return(before, ended, root)
    if back:
        numbers = ", ".join(str(pid) for pid in back)
        text = f"closed, but it came back with a new number ({numbers}): something starts it again"
        return _Result(text, False, {})
    return _Result(f"closed, {len(ended)} of {len(held)} processes are gone", True, {})


def _wait_for_return(before: dict[int, Live], ended: list[int], root: Root) -> list[int]:
    deadline_s = time.monotonic() + BACK_S
    while time.monotonic() < deadline_s:
        back = came_back(before, read_live(root), ended)
        if back:
            return [one.stat.pid for one in back]
        time.sleep(LOOK_EVERY_S)
    return []
