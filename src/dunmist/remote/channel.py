"""A remote shell at the other end of a child process: what it is fed, and what comes back."""

import os
import re
import select
import signal
import subprocess
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import IO, NamedTuple

from dunmist.children import start_child
from dunmist.errors import UnreadableComputer
from dunmist.remote import Garbled, NoCollector, Stream, collector_script
from dunmist.remote.collector_script import new_mark

# without any byte for so long (plus three periods) the connection counts as broken
SILENT_S, CHUNK_BYTES = 30.0, 1 << 16
# the longest line is a command line of 32 KiB
LINE_MOST_BYTES = 1 << 20
# a client ends at once when its input is closed
_ENDED_S = 5.0


class Connection(NamedTuple):
    """A shell on a remote computer, behind a local client."""

    label: str  # name of the computer in messages
    mark: str  # random word at the start of every line of the collector
    client: "subprocess.Popen[bytes]"
    channel: "Channel"
    stderr_file: IO[bytes]  # output of the client

    def feed(self, ticks: int, every_s: float) -> None:
        """Give the remote shell its script; a pipe holds all of it."""
        assert self.client.stdin is not None  # it was asked for
        with suppress(BrokenPipeError):
            self.client.stdin.write(collector_script(self.mark, ticks, every_s).encode())

    def stream(self) -> Stream:
        """Return the frames that come; raises Garbled."""
        return Stream(_without_echo(self.channel.lines(), self.mark), self.mark)

    def why(self, error: Garbled | None = None) -> str:
        """Return in one line what ended it: what the client said, silence, or what came instead."""
        if isinstance(error, Echoed):
            return f"{self.label}: {error}"
        if self.channel.was_stopped:
            return f"{self.label}: stopped"
        if self.channel.was_silent:
            return f"{self.label}: no word for {self.channel.silent_s:.0f} s"
        with suppress(subprocess.TimeoutExpired):
            self.client.wait(_ENDED_S)
        self.stderr_file.seek(0)
        said = self.stderr_file.read(CHUNK_BYTES).decode("utf-8", "replace").splitlines()
        last = next((text.strip() for text in reversed(said) if text.strip()), None)
        silent = "no shell answers there; check that it starts one"
        reason = silent if isinstance(error, NoCollector) else error
        return f"{self.label}: {last or reason or 'the connection broke'}"


class Echoed(Garbled):
    """A terminal in between sends back what it is given."""


def _without_echo(lines: Iterator[bytes], mark: str) -> Iterator[bytes]:
    """Yield lines; raises Echoed when a terminal repeats and changes them."""
    given, begun = f"MARK={mark}".encode(), f"@{mark}".encode()
    for line in lines:
        if given in line or (line.startswith(begun) and line.endswith(b"\r\n")):
            raise Echoed(
                "a terminal in between repeats what it is given; leave out the option that makes it"
            )
        yield line


@contextmanager
def connection_of(command: Sequence[str], label: str, every_s: float) -> Iterator[Connection]:
    """Run a local client, given by its absolute path, whose other end is a shell.

    Raises UnreadableComputer where no shell answers, or what comes is not of a collector.
    """
    with tempfile.TemporaryFile() as stderr_file:
        client = start_child(
            command,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=stderr_file,
            buffered=False,
        )
        assert client.stdout is not None  # it was asked for
        channel = Channel(client.stdout.fileno(), SILENT_S + 3 * every_s)
        connection = Connection(label, new_mark(), client, channel, stderr_file)
        try:
            with _ended_by(channel.stop):
                yield connection
        except Garbled as error:
            raise UnreadableComputer(connection.why(error)) from error
        finally:
            _end(client)


def _end(client: "subprocess.Popen[bytes]") -> None:
    for stream in (client.stdin, client.stdout):
        if stream is not None:
            with suppress(OSError):
                stream.close()
    try:
        client.wait(_ENDED_S)
    except subprocess.TimeoutExpired:
        client.kill()
        client.wait()


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
