"""Reach a computer by any command that gives a shell: a container's exec, a chroot, a jump tool."""

import os
import shlex
from contextlib import AbstractContextManager
from pathlib import Path
from typing import NamedTuple

from dunmist.children import find_program
from dunmist.errors import UnreadableComputer, WrongUsage
from dunmist.remote.channel import Connection, connection_of

# longer ones are cut in messages
LABEL_MOST = 60


class CommandTransport(NamedTuple):
    """A command whose standard input a shell on the computer reads; no shell of ours is used."""

    words: tuple[str, ...]

    @property
    def label(self) -> str:
        """The command, as it was typed."""
        text = shlex.join(self.words)
        return text if len(text) <= LABEL_MOST else f"{text[:LABEL_MOST]}…"

    @property
    def may_sample_itself(self) -> bool:
        """Only the shell samples: what the command enters may have no program of ours."""
        return False

    def open(self, every_s: float, first: str = "") -> AbstractContextManager[Connection]:
        """Run the command; raises UnreadableComputer where it cannot be started."""
        del first
        name = self.words[0]
        program = os.path.realpath(name) if os.sep in name else find_program(name)
        if program is None or not Path(program).is_file():
            raise UnreadableComputer(f"{name}: no such command; give one that is installed here")
        try:
            return connection_of([program, *self.words[1:]], self.label, every_s)
        except OSError as error:
            raise UnreadableComputer(f"{name}: {error.strerror}; give another command") from error


def parse_command(text: str) -> CommandTransport:
    """Return the transport of a command as it is typed for a shell; raises WrongUsage."""
    try:
        words = tuple(shlex.split(text))
    except ValueError as error:
        raise WrongUsage(f"invalid command '{text}' ({error}); close its quotes") from error
    if not words:
        raise WrongUsage("the command of --via is empty; give one that runs a shell")
    return CommandTransport(words)
