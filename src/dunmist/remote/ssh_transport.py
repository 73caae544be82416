"""Reach a remote computer through the technician's own OpenSSH client.

It asks for passwords and host keys at the terminal by itself; nothing here does.
"""

import re
from contextlib import AbstractContextManager
from typing import NamedTuple
from urllib.parse import urlsplit

from dunmist.children import find_program
from dunmist.errors import UnreadableComputer, WrongUsage
from dunmist.remote.channel import Connection, connection_of

SSH = "ssh"
# valid host names (ssh(1)); a leading hyphen would make an option
_HOST = re.compile(r"(?:[^\s@:/-][^\s@:/]*@)?[^\s@:/-][^\s@:/]*\Z")


class Host(NamedTuple):
    """A computer, as arguments of ssh(1) name it."""

    name: str
    port: int | None = None


def parse_host(text: str) -> Host:
    """Return the host of ``user@host`` or ``ssh://user@host:port``; raises WrongUsage."""
    name, port = text, None
    if text.startswith("ssh://"):
        try:
            parts = urlsplit(text)
            name, port = parts.netloc.rpartition(":")[0] if parts.port else parts.netloc, parts.port
        except ValueError:
            name = ""
        if parts.path.strip("/"):
            name = ""
    if not _HOST.match(name):
        raise WrongUsage(f"invalid host '{text}'; write user@host or ssh://user@host:2222")
    return Host(name, port)


class SshTransport(NamedTuple):
    """A computer over SSH; with ``sudo`` it is read as root, without a password."""

    host: Host
    sudo: bool = False

    @property
    def label(self) -> str:
        """Name of the computer in messages."""
        return self.host.name

    @property
    def may_sample_itself(self) -> bool:
        """Whether a program of ours over there may sample in place of the shell."""
        return not self.sudo

    def open(self, every_s: float, first: str = "") -> AbstractContextManager[Connection]:
        """Run ssh(1), which asks for passwords and host keys at the terminal by itself.

        ``first`` is for sh(1), before the collector. Raises UnreadableComputer.
        """
        program = find_program(SSH)
        if program is None:
            raise UnreadableComputer("ssh was not found; install the OpenSSH client")
        return connection_of([program, *_arguments(self, first)], self.label, every_s)


def _arguments(target: SshTransport, first: str) -> list[str]:
    """Return the arguments of ssh(1); every login shell understands the command."""
    shell = "sudo -n sh -s" if target.sudo else "sh -s"
    port = ["-p", str(target.host.port)] if target.host.port else []
    alive = ["-o", "ServerAliveInterval=5", "-o", "ServerAliveCountMax=4"]
    command = f"exec sh -c '{first}exec {shell}'"
    return ["-T", "-C", "-o", "ConnectTimeout=15", *alive, *port, "--", target.host.name, command]
