"""Hold a process by its descriptor, so that a signal can reach no other one.

A process descriptor (pidfd_open(2)) stays with its process: a signal sent through it never reaches
another one that was given the same number later. It is opened first and the identity compared
afterwards: a process with the same number and start time is the one that was opened.
"""

import os
import select
import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import NamedTuple

from dunmist.advice import Target
from dunmist.computer import ParseError, ProcessStat, Root, parse_process_stat
from dunmist.errors import Refused
from dunmist.fixing.journal import JournalLine


class HeldProcess(NamedTuple):
    """A living process that is certainly the one that was meant."""

    target: Target
    descriptor: int

    def send(self, number: signal.Signals) -> bool:
        """Send a signal; False when it has ended. Raises PermissionError."""
        try:
            signal.pidfd_send_signal(self.descriptor, number)
        except ProcessLookupError:
            return False
        return True

    def has_ended(self, timeout_s: float = 0.0) -> bool:
        """Whether it has ended, waiting at most so long for it."""
        poll = select.poll()
        poll.register(self.descriptor, select.POLLIN)
        return bool(poll.poll(round(timeout_s * 1e3)))


@contextmanager
def hold(root: Root, targets: list[Target]) -> Iterator[list[HeldProcess]]:
    """Give those of the targets that still live; the numbers of others may have new owners."""
    held: list[HeldProcess] = []
    try:
        for target in targets:
            pidfd = _hold_one(root, target)
            if pidfd:
                held.append(pidfd)
        yield held
    finally:
        for process in held:
            os.close(process.descriptor)


def reverse_each(
    line: JournalLine, root: Root, word: str, reverse: Callable[[HeldProcess], object]
) -> str:
    """Do something to each process of an act that still lives, and return what came of it.

    Raises Refused when none of them does.
    """
    with hold(root, line.act.targets) as held:
        if not held:
            raise Refused(f"the processes of act {line.number} have ended, nothing is left to undo")
        for process in held:
            reverse(process)
        return f"{len(held)} of {len(line.act.targets)} processes are {word}"


def read_stat(root: Root, pid: int) -> ProcessStat | None:
    """Return the present facts of a process number, None if no process has it."""
    try:
        return parse_process_stat(root.read(f"proc/{pid}/stat"))
    except (OSError, ParseError):
        return None  # it ended between two reads


def _hold_one(root: Root, target: Target) -> HeldProcess | None:
    try:
        # opened first, compared afterwards: the other way round leaves a gap
        descriptor = os.pidfd_open(target.pid)
    except ProcessLookupError:
        return None
    with suppress(OSError):
        stat = read_stat(root, target.pid)
        held = HeldProcess(target, descriptor)
        if stat and stat.start_clk == target.start_clk and not held.has_ended():
            return held
    os.close(descriptor)
    return None
