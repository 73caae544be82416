"""Reach a remote computer through the technician's own OpenSSH client.

It asks for passwords and host keys at the terminal by itself; nothing here does.
"""

import os
import re
import select
import signal
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import IO, NamedTuple
from urllib.parse import urlsplit

from dunmist.children import find_program, start_child
from dunmist.errors import UnreadableComputer, WrongUsage
from dunmist.remote import Garbled, Stream, collector_script
from dunmist.remote.collector_script import new_mark

SSH = "ssh"
# without any byte for so long (plus three periods) the connection counts as broken
SILENT_S, CHUNK_BYTES = 30.0, 1 << 16
# the longest line is a command line of 32 KiB
LINE_MOST_BYTES = 1 << 20
# what a host may be called (ssh(1)); what begins with a hyphen would be an option
_HOST = re.compile(r"(?:[^\s@:/-][^\s@:/]*@)?[^\s@:/-][^\s@:/]*\Z")
# ssh(1) ends at once when its input is closed
_ENDED_S = 5.0


class Host(NamedTuple):
    """A computer as ssh(1) is told of it."""

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


class RemoteTarget(NamedTuple):
    """A remote computer; with ``sudo`` it is read as root, without a password."""

    host: Host
    sudo: bool = False


def _arguments(target: RemoteTarget, own: str) -> list[str]:
    """Return the arguments of ssh(1); every login shell understands what it is told."""
    shell = "sudo -n sh -s" if target.sudo else "sh -s"
    port = ["-p", str(target.host.port)] if target.host.port else []
    alive = ["-o", "ServerAliveInterval=5", "-o", "ServerAliveCountMax=4"]
    told = f"exec sh -c '{own}exec {shell}'"
    return ["-T", "-C", "-o", "ConnectTimeout=15", *alive, *port, "--", target.host.name, told]


class Connection(NamedTuple):
    """A shell at the other end of ssh(1)."""

    host: str
    mark: str  # random word at the start of every line of the collector
    ssh: "subprocess.Popen[bytes]"
    channel: "Channel"
    stderr_file: IO[bytes]  # what ssh printed

    def feed(self, ticks: int, every_s: float) -> None:
        """Give the remote shell its script; a pipe holds all of it."""
        assert self.ssh.stdin is not None  # it was asked for
        with suppress(BrokenPipeError):
            self.ssh.stdin.write(collector_script(self.mark, ticks, every_s).encode())

    def stream(self) -> Stream:
        """Return the frames that come; raises Garbled."""
        return Stream(self.channel.lines(), self.mark)

    def why(self, error: Garbled | None = None) -> str:
        """Return in one line what ended it: what ssh said, silence, or what came instead."""
        if self.channel.was_stopped:
            return f"{self.host}: stopped"
        if self.channel.was_silent:
            return f"{self.host}: no word for {self.channel.silent_s:.0f} s"
        with suppress(subprocess.TimeoutExpired):
            self.ssh.wait(_ENDED_S)
        self.stderr_file.seek(0)
        said = self.stderr_file.read(CHUNK_BYTES).decode("utf-8", "replace").splitlines()
        last = next((text.strip() for text in reversed(said) if text.strip()), None)
        return f"{self.host}: {last or error or 'the connection broke'}"


@contextmanager
def connected(target: RemoteTarget, own: str, every_s: float) -> Iterator[Connection]:
    """Run ssh(1), which asks for passwords and host keys at the terminal by itself.

    Raises UnreadableComputer where nothing that a collector says came.
    """
    ssh_program = find_program(SSH)
    if ssh_program is None:
        raise UnreadableComputer("ssh was not found; install the OpenSSH client")
    with tempfile.TemporaryFile() as stderr_file:
        ssh = start_child(
            [ssh_program, *_arguments(target, own)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=stderr_file,
            buffered=False,
        )
        assert ssh.stdout is not None  # it was asked for
        channel = Channel(ssh.stdout.fileno(), SILENT_S + 3 * every_s)
        connection = Connection(target.host.name, new_mark(), ssh, channel, stderr_file)
        try:
            with _ended_by(channel.stop):
                yield connection
        except Garbled as error:
            raise UnreadableComputer(connection.why(error)) from error
        finally:
            _end(ssh)


def _end(ssh: "subprocess.Popen[bytes]") -> None:
    for stream in (ssh.stdin, ssh.stdout):
        if stream is not None:
            with suppress(OSError):
                stream.close()
    try:
        ssh.wait(_ENDED_S)
    except subprocess.TimeoutExpired:
        ssh.kill()
        ssh.wait()


class Channel:
    """The bytes from the remote shell, until they end, stop coming, or ``stop`` is called."""

    def __init__(self, descriptor: int, silent_s: float) -> None:
        self._descriptor, self.silent_s = descriptor, silent_s
        self._held = b""
        self._stopped, self._stopper = os.pipe()
        self.was_silent = self.was_stopped = False

    def stop(self) -> None:
        """End it now; may be called from a handler of signals."""
        os.write(self._stopper, b"!")

    def begins_with(self, wanted: bytes, other: bytes) -> bool:
        """Read until one of two beginnings of a line came; return whether it was the first."""
        beginning = re.compile(b"^(?:(%s)|%s)" % (re.escape(wanted), re.escape(other)), re.M)
        longest = max(len(wanted), len(other))
        searched = 0
        while True:
            match = beginning.search(self._held, searched)
            if match:
                self._held = self._held[match.end() if match[1] else match.start() :]
                return match[1] is not None
            # the last line may still become one of the two
            searched = max(searched, self._held.rfind(b"\n", 0, -longest) + 1)
            if len(self._held) > LINE_MOST_BYTES or not self._more():
                return False

    def lines(self) -> Iterator[bytes]:
        """Yield whole lines."""
        while True:
            *whole, self._held = self._held.split(b"\n")
            for line in whole:
                yield line + b"\n"
            if len(self._held) > LINE_MOST_BYTES or not self._more():
                return

    def rest(self) -> Iterator[bytes]:
        """Yield everything that comes, in pieces."""
        while self._held or self._more():
            yield self._held
            self._held = b""

    def _more(self) -> bool:
        ready, _, _ = select.select([self._descriptor, self._stopped], [], [], self.silent_s)
        if self._stopped in ready:
            self.was_stopped = True
            return False
        if not ready:
            self.was_silent = True
            return False
        data = os.read(self._descriptor, CHUNK_BYTES)
        self._held += data
        return bool(data)


@contextmanager
def _ended_by(stop: Callable[[], None]) -> Iterator[None]:
    """Have signals end what is under way, and keep what came."""
    before = {
        number: signal.signal(number, lambda *_: stop())
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
    }
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
