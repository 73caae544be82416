"""Acts on processes by signals: pausing, letting go on, ending; and what came of it."""

import signal
import time

from dunmist.advice import Act, Target
from dunmist.computer import Root
from dunmist.fixing.journal import JournalLine, Result
from dunmist.fixing.live_processes import Live, came_back, read_live
from dunmist.fixing.pidfd import HeldProcess, hold, read_stat, reverse_each

# how long is waited for a signal to show, for an end, and for what ended to come back
STOP_S, END_S, BACK_S, LOOK_EVERY_S = 2.0, 5.0, 2.0, 0.1


def pause(act: Act, targets: list[Target], root: Root) -> Result:
    """Stop processes until they get SIGCONT."""
    del act
    with hold(root, targets) as held:
        return _stop_or_go(signal.SIGSTOP, held, root)


def resume(act: Act, targets: list[Target], root: Root) -> Result:
    """Let processes go on."""
    del act
    with hold(root, targets) as held:
        return _stop_or_go(signal.SIGCONT, held, root)


def undo_pause(line: JournalLine, root: Root) -> str:
    """Let paused processes go on; raises Refused when none of them lives."""
    return reverse_each(line, root, "going on", lambda process: process.send(signal.SIGCONT))


def end(act: Act, targets: list[Target], root: Root) -> Result:
    """Ask processes to end, and say whether they came back."""
    del act
    with hold(root, targets) as held:
        return _end(signal.SIGTERM, held, root)


def force_end(act: Act, targets: list[Target], root: Root) -> Result:
    """End processes without asking, and say whether they came back."""
    del act
    with hold(root, targets) as held:
        return _end(signal.SIGKILL, held, root)


def _stop_or_go(number: signal.Signals, held: list[HeldProcess], root: Root) -> Result:
    for process in held:
        process.send(number)
    stops = number == signal.SIGSTOP
    deadline_s = time.monotonic() + STOP_S
    while (done := _in_state(held, root, stopped=stops)) < len(held):
        if time.monotonic() >= deadline_s:
            break
        time.sleep(LOOK_EVERY_S)
    word = "paused" if stops else "going on"
    return Result(f"{done} of {len(held)} processes are {word}", done == len(held))


def _in_state(held: list[HeldProcess], root: Root, *, stopped: bool) -> int:
    """Return the number of processes that are stopped, or no longer stopped."""
    states = [stat.state for process in held if (stat := read_stat(root, process.target.pid))]
    # t is stopped by a debugger
    return sum((state in "Tt") == stopped for state in states)


def _end(number: signal.Signals, held: list[HeldProcess], root: Root) -> Result:
    before = read_live(root)
    for process in held:
        process.send(number)
        # a stopped process handles a polite signal only after it continues
        process.send(signal.SIGCONT)
    # one span for all of them: a hundred processes end at the same time, not in turns
    deadline_s = time.monotonic() + END_S
    for process in held:
        process.has_ended(max(0.0, deadline_s - time.monotonic()))
    ended = [process.target.pid for process in held if process.has_ended()]
    left = [process.target.pid for process in held if process.target.pid not in ended]
    if left:
        numbers = " ".join(map(str, left))
        return Result(f"closed {len(ended)}, still running: {numbers}", False)
    back = _wait_for_return(before, ended, root)
    if back:
        numbers = ", ".join(str(pid) for pid in back)
        text = f"closed, but it came back with a new number ({numbers}): something starts it again"
        return Result(text, False)
    return Result(f"closed, {len(ended)} of {len(held)} processes are gone", True)


def _wait_for_return(before: dict[int, Live], ended: list[int], root: Root) -> list[int]:
    deadline_s = time.monotonic() + BACK_S
    while time.monotonic() < deadline_s:
        back = came_back(before, read_live(root), ended)
        if back:
            return [process.stat.pid for process in back]
        time.sleep(LOOK_EVERY_S)
    return []
