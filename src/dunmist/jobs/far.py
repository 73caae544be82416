"""Captures a computer that is elsewhere: over the technician's own OpenSSH client, or from a file.

The far shell is fed the collector over its standard input and writes to its standard output;
nothing is written there. Where the far computer has this program, that samples, and its capture is
sent.
"""

import gzip
import os
import re
import select
import shutil
import signal
import subprocess
import tempfile
import time
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, NamedTuple, Protocol
from urllib.parse import urlsplit

from dunmist.elsewhere import FarClock, Garbled, Mirror, Stream, collector_script
from dunmist.elsewhere.carried import opened
from dunmist.elsewhere.script import new_mark
from dunmist.errors import CaptureError, UnreadableComputer, WrongUsage
from dunmist.jobs.capture import Follower, SampledBy, Wishes, follow_nothing, run_capture
from dunmist.output import NewFile
from dunmist.sampling import Clock

SSH = "ssh"
# no word, neither a tick nor a greeting, for so long (and three periods) is a line that is broken
SILENT_S, CHUNK_BYTES = 30.0, 1 << 16
LINE_MOST_BYTES = 1 << 20
MEMORY_DIRECTORY = "/dev/shm"
NATIVE = b"@native\n"
# what a host may be called (ssh(1)); what begins with a hyphen would be an option
_HOST = re.compile(r"(?:[^\s@:/-][^\s@:/]*@)?[^\s@:/-][^\s@:/]*\Z")
_ENDED_S = 5.0
# a recorder ends when it is told to
TICKS_FOR_EVER = 999_999_999


class Host(NamedTuple):
    """A computer as ssh(1) is told of it."""

    name: str
    port: int | None = None


def parse_host(text: str) -> Host:
    """Return the host of ``user@host`` or ``ssh://user@host:port``; raises WrongUsage."""
    name, port = text, None
    if text.startswith("ssh://"):
        try:
            found = urlsplit(text)
            name, port = found.netloc.rpartition(":")[0] if found.port else found.netloc, found.port
        except ValueError:
            name = ""
        if found.path.strip("/"):
            name = ""
    if not _HOST.match(name):
        raise WrongUsage(f"'{text}' is no host; write user@host or ssh://user@host:2222")
    return Host(name, port)


class Far(NamedTuple):
    """What is asked of a far computer; ``sudo`` reads as its administrator without a password."""

    host: Host
    sudo: bool = False


class FarCapture(NamedTuple):
    """Where the capture is, by whom it was sampled, and what is to be said of it."""

    path: Path
    by: str
    remark: str | None = None


class StoppableClock(Clock, Protocol):
    """A clock whose waits can be ended."""

    def stop(self) -> None:
        """End the current and every later wait at once."""


class Source(NamedTuple):
    """What is sampled: its root, its clock, and who reads in our place, None where nobody does."""

    root: Path
    clock: StoppableClock
    by: SampledBy | None


def capture_on(far: Far, wishes: Wishes, follow: Follower = follow_nothing) -> FarCapture:
    """Sample a far computer over SSH; raises UnreadableComputer, WrongUsage, OutputError."""
    with _connected(far, _own_program(far, wishes), wishes.every_s) as connection:
        connection.feed(round(wishes.duration_s / wishes.every_s), wishes.every_s)
        if connection.line.begins_with(NATIVE, b"@" + connection.mark.encode()):
            path = _take_over(connection.line, wishes)
            return FarCapture(path, "the program that the far computer has")
        stream = connection.stream()
        with _mirrored(stream, connection.line.stop) as source:
            path = _sampled(source, wishes, follow)
            _end_of(stream)
        remark = None if stream.is_whole else f"{connection.why()}; what arrived is kept"
        return FarCapture(path, "a shell", remark)


@contextmanager
def far_source(far: Far, every_s: float) -> Iterator[Source]:
    """Give a far computer that is sampled on and on; raises UnreadableComputer when it is lost."""
    with _connected(far, "", every_s) as connection:
        connection.feed(TICKS_FOR_EVER, every_s)
        with _mirrored(connection.stream(), connection.line.stop) as source:
            yield source
        if not connection.line.was_stopped and connection.ssh.poll() is not None:
            raise UnreadableComputer(f"{connection.why()}; what arrived is kept")


def capture_from(file: Path, wishes: Wishes, follow: Follower = follow_nothing) -> FarCapture:
    """Make a capture of a file that the collector left; raises CaptureError and OutputError."""
    try:
        with opened(file) as lines:
            stream = Stream(_bounded(lines))
            begun = stream.begun
            asked = wishes._replace(duration_s=begun.ticks * begun.every_s, every_s=begun.every_s)
            with _mirrored(stream, _nobody) as source:
                path = _sampled(source, asked, follow)
                _end_of(stream)
    except Garbled as error:
        raise CaptureError(f"{file}: is no collector's file ({error}); send it again") from error
    except (OSError, EOFError) as error:
        reason = getattr(error, "strerror", None) or "it ends too early"
        raise CaptureError(f"{file}: {reason}; give the file that the collector left") from error
    remark = None if stream.is_whole else "the file ends too early; what it holds is kept"
    return FarCapture(path, "the collector", remark)


def _nobody() -> None:
    """A file ends by itself."""


def _bounded(lines: "gzip.GzipFile | IO[bytes]") -> Iterator[bytes]:
    """Yield the lines of a file; one that is cut short or damaged just ends."""
    with suppress(EOFError, OSError, zlib.error):
        while line := lines.readline(LINE_MOST_BYTES):
            yield line


@contextmanager
def _mirrored(stream: Stream, stop: Callable[[], None]) -> Iterator[Source]:
    """Give the root and the clock of a stream, at its first moment; raises Garbled without any."""
    memory = MEMORY_DIRECTORY if os.access(MEMORY_DIRECTORY, os.W_OK) else None
    with tempfile.TemporaryDirectory(prefix="dunmist-", dir=memory) as directory:
        clock = FarClock(stream.begun, stream.frames(), Mirror(Path(directory)), stop)
        if not clock.begin():
            raise Garbled("it ended before anything was read")
        by = SampledBy(stream.begun.pid, stream.begun.is_privileged)
        yield Source(Path(directory), clock, by)


def _sampled(source: Source, wishes: Wishes, follow: Follower) -> Path:
    return run_capture(wishes._replace(root=source.root), source.clock, follow, source.by)


def _own_program(far: Far, wishes: Wishes) -> str:
    """Return what has a program of ours over there sample, in the words of sh(1)."""
    if far.sudo:
        return ""
    span = f"--for {wishes.duration_s:g}s --every {wishes.every_s:g}s"
    return (
        "if command -v dunmist >/dev/null 2>&1; then "
        f"echo @native; exec dunmist capture -o - {span} 2>/dev/null; fi; "
    )


def _command(far: Far, own: str) -> list[str]:
    """Return the call of ssh(1); every login shell understands what it is told."""
    shell = "sudo -n sh -s" if far.sudo else "sh -s"
    port = ["-p", str(far.host.port)] if far.host.port else []
    alive = ["-o", "ServerAliveInterval=5", "-o", "ServerAliveCountMax=4"]
    told = f"exec sh -c '{own}exec {shell}'"
    return [SSH, "-T", "-C", "-o", "ConnectTimeout=15", *alive, *port, "--", far.host.name, told]


class _Connection(NamedTuple):
    """A shell at the other end of ssh(1), and what ssh said meanwhile."""

    host: str
    mark: str
    ssh: "subprocess.Popen[bytes]"
    line: "_Line"
    complaints: IO[bytes]

    def feed(self, ticks: int, every_s: float) -> None:
        """Give the far shell its script; a pipe holds all of it."""
        assert self.ssh.stdin is not None  # it was asked for
        with suppress(BrokenPipeError):
            self.ssh.stdin.write(collector_script(self.mark, ticks, every_s).encode())

    def stream(self) -> Stream:
        """Return the frames that come; raises Garbled."""
        return Stream(self.line.lines(), self.mark)

    def why(self, error: Garbled | None = None) -> str:
        """Return in one line what ended it: what ssh said, silence, or what came instead."""
        if self.line.was_stopped:
            return f"{self.host}: stopped"
        if self.line.was_silent:
            return f"{self.host}: no word for {self.line.silent_s:.0f} s"
        with suppress(subprocess.TimeoutExpired):
            self.ssh.wait(_ENDED_S)
        self.complaints.seek(0)
        said = self.complaints.read(CHUNK_BYTES).decode("utf-8", "replace").splitlines()
        last = next((text.strip() for text in reversed(said) if text.strip()), None)
        return f"{self.host}: {last or error or 'the line broke'}"


@contextmanager
def _connected(far: Far, own: str, every_s: float) -> Iterator[_Connection]:
    """Run ssh(1), which asks for passwords and host keys at the terminal by itself.

    Raises UnreadableComputer where nothing that a collector says came.
    """
    if shutil.which(SSH) is None:
        raise UnreadableComputer("there is no ssh here; install the OpenSSH client")
    with tempfile.TemporaryFile() as complaints:
        ssh = subprocess.Popen(
            _command(far, own), stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=complaints,
            bufsize=0,
        )  # fmt: skip
        assert ssh.stdout is not None  # it was asked for
        line = _Line(ssh.stdout.fileno(), SILENT_S + 3 * every_s)
        connection = _Connection(far.host.name, new_mark(), ssh, line, complaints)
        try:
            with _ended_by(line.stop):
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


def _end_of(stream: Stream) -> None:
    """Take what is left: the word that it came to its end."""
    with suppress(Garbled):
        next(stream.frames(), None)


class _Line:
    """What comes over the line, until it ends, is silent for too long, or is told to stop."""

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
        while True:
            for place in _starts_of_lines(self._held):
                rest = self._held[place:]
                if rest.startswith(wanted):
                    self._held = rest[len(wanted) :]
                    return True
                if rest.startswith(other):
                    return False
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


def _starts_of_lines(data: bytes) -> Iterator[int]:
    yield 0
    place = data.find(b"\n")
    while place >= 0:
        yield place + 1
        place = data.find(b"\n", place + 1)


def _take_over(line: _Line, wishes: Wishes) -> Path:
    """Keep the capture that the far program sends."""
    output = wishes.output or Path(f"far-{time.strftime('%Y%m%d-%H%M%S')}.jsonl.gz")
    new = NewFile(output, force=wishes.force)
    try:
        for data in line.rest():
            os.write(new.descriptor, data)
        new.put_in_place()
    finally:
        new.discard()
    return output


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
