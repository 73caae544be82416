"""A question that may not be answered for hours, asked by a process that can be left to itself."""

import subprocess
import time
from collections.abc import Mapping, Sequence

from dunmist.children import python_command, start_child

# a drive that answers does so at once; nobody waits longer for one that does not
DEADLINE_S = 2.0
# reading output from long ago takes a moment as well
HEARD_S = 0.05


class DeadlinedProcesses:
    """Questions asked at once, each of a Python of its own with the given arguments.

    They are answered while other things are done; each has ``deadline_s`` from when it was asked.
    ``given`` is a descriptor that each reads from. One that is not ``isolated`` finds packages.
    """

    def __init__(
        self,
        questions: Mapping[str, Sequence[str]],
        *,
        isolated: bool = True,
        given: int = subprocess.DEVNULL,
        deadline_s: float = DEADLINE_S,
    ) -> None:
        self._asked = {
            name: start_child(
                python_command(*arguments, isolated=isolated),
                stdin=given,
                stdout=subprocess.PIPE,
                own_session=True,
            )
            for name, arguments in questions.items()
        }
        self._until_s = time.monotonic() + deadline_s

    def answers(self, *, partial: bool = False) -> dict[str, bytes | None]:
        """Return the output of each, None for one that did not exit in time.

        A ``partial`` answer is what it had printed by then. It may not die before it is answered,
        so nobody waits for it.
        """
        answers = {
            name: _answer(child, self._until_s, partial) for name, child in self._asked.items()
        }
        self._asked = {}
        return answers

    def leave(self) -> None:
        """Wait for none of them."""
        for child in self._asked.values():
            _leave(child)
        self._asked = {}


def ask_children(questions: Mapping[str, Sequence[str]]) -> dict[str, bytes | None]:
    """Ask several questions at once and wait for the answers, as :class:`Children` has them."""
    return DeadlinedProcesses(questions).answers()


def _answer(child: "subprocess.Popen[bytes]", until_s: float, partial: bool) -> bytes | None:
    try:
        return child.communicate(timeout=max(HEARD_S, until_s - time.monotonic()))[0]
    except subprocess.TimeoutExpired as late:
        _leave(child)
        return late.output if partial else None


def _leave(child: "subprocess.Popen[bytes]") -> None:
    child.kill()
    child.returncode = 0
    if child.stdout:
        child.stdout.close()
