"""Pause and resume a suspect in a random order, while another process samples.

A thread keeps the time of the phases. Two guards (``safety_net``) hold descriptors of all that may
be paused and let it go on when this program is gone, stopped or stuck. Units of their own are
frozen (``freezing.py``), other processes get signals through their descriptors.
"""

import os
import signal
import threading
import time
from collections.abc import Sequence
from contextlib import ExitStack, suppress
from types import TracebackType
from typing import Self

from dunmist.advice import Act, Target
from dunmist.compare import Phase
from dunmist.computer import Root
from dunmist.errors import Refused
from dunmist.fixing import watchdog
from dunmist.fixing.freezing import freezer_of
from dunmist.fixing.guards import check_processes, check_targets
from dunmist.fixing.live_processes import family, read_live
from dunmist.fixing.pidfd import HeldProcess, hold, read_stat
from dunmist.fixing.safety_net import safety_net

# six times within the time after which the watchdog acts
SAY_EVERY_S = 0.5
STOPPED = "Tt"
# proc_pid_stat(5), counted after the name: group, session, terminal and its foreground group
GROUP, SESSION, TERMINAL, FOREGROUND = 2, 3, 4, 5
GONE = "it ended by itself, so nothing was proven"
UNKEPT = "what lets it go on in an emergency was ended, so the rest was left; nothing was proven"


def check_suspect(act: Act, root: Root) -> list[Target]:
    """Return the processes that would be alternated; raises Refused where that would do harm."""
    targets = check_processes(act, root)
    states = [(target, stat) for target in targets if (stat := read_stat(root, target.pid))]
    if states and all(stat.state in STOPPED for _, stat in states):
        raise Refused(f"{targets[0].name} is paused already; let it go on before it is tried")
    for target, _ in states:
        if _in_foreground(root, target.pid):
            raise Refused(
                f"process {target.pid} ({target.name}) has the terminal of its shell, which would "
                f"put it into the background; pause it there with Ctrl-Z and 'fg', and look"
            )
    return targets


class Alternating:
    """One experiment: ``begin`` starts its thread, leaving it lets the suspect go on.

    ``phases`` grows by timestamps of the monotonic clock, ``trouble`` says what ended it early.
    """

    def __init__(
        self, targets: Sequence[Target], root: Root, order: Sequence[bool], phase_s: float
    ) -> None:
        self._targets = list(targets)
        self._root = root
        self._order = order
        self._phase_s = phase_s
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run, name="alternating", daemon=True)
        self._stack = ExitStack()
        self._held: dict[tuple[int, int], HeldProcess] = {}
        self._freezer: int | None = None
        self.phases: list[Phase] = []
        self.trouble: str | None = None

    def __enter__(self) -> Self:
        with self._stack as unless_ready:
            span_s = len(self._order) * self._phase_s
            self._net = unless_ready.enter_context(safety_net(span_s))
            self._freezer = freezer_of(self._root, {target.pid for target in self._targets})
            if self._freezer is not None:
                unless_ready.callback(os.close, self._freezer)
                self._net.hand_over(watchdog.FREEZER, self._freezer)
            self._take(self._targets)
            self._stack = unless_ready.pop_all()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._over.set()
        if self._thread.ident is not None:
            self._thread.join()
        self._stack.close()

    def begin(self) -> None:
        """Begin with the first phase."""
        self._thread.start()

    def _run(self) -> None:
        try:
            for paused in self._order:
                begin_s = time.monotonic()
                (self._pause if paused else self._let_go)()
                if not self._wait(begin_s + self._phase_s):
                    return
                self.phases.append(Phase(begin_s, time.monotonic(), paused))
                if not any(not process.has_ended() for process in self._held.values()):
                    self.trouble = GONE
                    return
        except (BrokenPipeError, ConnectionResetError):
            self.trouble = UNKEPT
        except (OSError, Refused) as error:
            self.trouble = str(error)
        finally:
            self._let_go()
            self._net.say_done()

    def _wait(self, until_s: float) -> bool:
        """Wait, saying meanwhile that all is well; False where it is over."""
        while (left_s := until_s - time.monotonic()) > 0:
            self._net.say_alive()
            if self._over.wait(min(SAY_EVERY_S, left_s)):
                return False
        return True

    def _pause(self) -> None:
        if self._freezer is not None:
            os.write(self._freezer, b"1")
            return
        # children started since belong to it
        live = read_live(self._root)
        known = [target for target in self._targets if target.pid in live]
        self._take(family(live, known))
        for process in self._held.values():
            process.send(signal.SIGSTOP)

    def _let_go(self) -> None:
        if self._freezer is not None:
            os.write(self._freezer, b"0")
        else:
            for process in self._held.values():
                process.send(signal.SIGCONT)

    def _take(self, targets: Sequence[Target]) -> None:
        """Hold processes and hand them over to the guards, but for those that somebody stopped."""
        new = [target for target in targets if (target.pid, target.start_clk) not in self._held]
        if not new:
            return
        check_targets(read_live(self._root), new)
        held = self._stack.enter_context(hold(self._root, new))
        for process in held:
            stat = read_stat(self._root, process.target.pid)
            if stat is not None and stat.state not in STOPPED:
                self._net.hand_over(watchdog.PROCESSES, process.descriptor)
                self._held[process.target.pid, process.target.start_clk] = process


def _in_foreground(root: Root, pid: int) -> bool:
    """Whether a process has the terminal of a shell that would notice that it stops."""
    with suppress(OSError, ValueError, IndexError):
        words = root.read(f"proc/{pid}/stat").rpartition(b")")[2].split()
        group, session, terminal, foreground = (
            int(words[index]) for index in (GROUP, SESSION, TERMINAL, FOREGROUND)
        )
        return terminal != 0 and group == foreground and group != session
    return False
