"""The way to a remote computer: anything that gives a shell on its standard input and output.

A new one is a module with a class of this form, and its option in dunmist.cli.remote_options.
"""

from contextlib import AbstractContextManager
from typing import Protocol

from dunmist.remote.channel import Connection


class Transport(Protocol):
    """Interface of the way to a remote computer."""

    @property
    def label(self) -> str:
        """Name of the computer in messages."""
        ...

    @property
    def may_sample_itself(self) -> bool:
        """Whether a program of ours over there may sample in place of the shell."""
        ...

    def open(self, every_s: float, first: str = "") -> AbstractContextManager[Connection]:
        """Give the shell; ``first`` is a command of sh(1) before the collector.

        Raises UnreadableComputer where it cannot be had.
        """
        ...
