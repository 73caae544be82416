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
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, NamedTuple
from urllib.parse import urlsplit

from dunmist.elsewhere import FarClock, Garbled, Mirror, Stream, collector_script
from dunmist.elsewhere.script import new_mark
from dunmist.errors import CaptureError, UnreadableComputer, WrongUsage
from dunmist.jobs.capture import Follower, SampledBy, Wishes, follow_nothing, run_capture
from dunmist.output import NewFile

SSH = "ssh"
# no word, neither a tick nor a greeting, for so long (and three periods) is a line that is broken
SILENT_S, CHUNK_BYTES = 30.0, 1 << 16
LINE_MOST_BYTES = 1 << 20
MEMORY_DIRECTORY = "/dev/shm"
NATIVE = b"@native\n"
GZIP = b"\x1f\x8b"
# what a host may be called (ssh(1)); what begins with a hyphen would be an option
_HOST = re.compile(r"(?:[^\s@:/-][^\s@:/]*@)?[^\s@:/-][^\s@:/]*\Z")
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


def capture_on(far: Far, wishes: Wishes, follow: Follower = follow_nothing) -> FarCapture:
    """Sample a far computer over SSH; raises UnreadableComputer, WrongUsage, OutputError."""
    if shutil.which(SSH) is None:
        raise UnreadableComputer("there is no ssh here; install the OpenSSH client")
    mark, ticks = new_mark(), round(wishes.duration_s / wishes.every_s)
    with tempfile.TemporaryFile() as complaints, _started(far, wishes, complaints) as ssh:
        assert ssh.stdin is not None and ssh.stdout is not None
        line = _Line(ssh.stdout.fileno(), SILENT_S + 3 * wishes.every_s)
        with _ended_by(line.stop):
            feeding = _feed(ssh.stdin, collector_script(mark, ticks, wishes.every_s))
            try:
                if line.begins_with(NATIVE, b"@" + mark.encode()):
                    path = _take_over(line, wishes)
                    return FarCapture(path, "the program that the far computer has")
                stream = Stream(line.lines(), mark)
                path = _sampled(stream, wishes, follow)
            except Garbled as error:
                raise UnreadableComputer(_why(far, ssh, complaints, line, error)) from error
            finally:
                feeding.close()
        remark = None
        if not stream.is_whole:
            remark = _why(far, ssh, complaints, line, None) + "; what arrived is kept"
        return FarCapture(path, "a shell", remark)


def capture_from(file: Path, wishes: Wishes, follow: Follower = follow_nothing) -> FarCapture:
    """Make a capture of a file that the collector left; raises CaptureError and OutputError."""
    try:
        with file.open("rb") as opened:
            zipped = opened.read(len(GZIP)) == GZIP
        with file.open("rb") as plain, gzip.GzipFile(fileobj=plain) as unpacked:
            stream = Stream(_bounded(unpacked if zipped else plain))
            begun = stream.begun
            asked = wishes._replace(duration_s=begun.ticks * begun.every_s, every_s=begun.every_s)
            path = _sampled(stream, asked, follow)
    except Garbled as error:
        raise CaptureError(f"{file}: is no collector's file ({error}); send it again") from error
    except (OSError, EOFError) as error:
        reason = getattr(error, "strerror", None) or "it ends too early"
        raise CaptureError(f"{file}: {reason}; give the file that the collector left") from error
    remark = None if stream.is_whole else "the file ends too early; what it holds is kept"
    return FarCapture(path, "the collector", remark)


def _bounded(lines: "gzip.GzipFile | IO[bytes]") -> Iterator[bytes]:
    """Yield the lines of a file; one that is cut short or damaged just ends."""
    with suppress(EOFError, OSError):
        while line := lines.readline(LINE_MOST_BYTES):
            yield line


def _sampled(stream: Stream, wishes: Wishes, follow: Follower) -> Path:
    memory = MEMORY_DIRECTORY if os.access(MEMORY_DIRECTORY, os.W_OK) else None
    with tempfile.TemporaryDirectory(prefix="dunmist-", dir=memory) as directory:
        frames = stream.frames()
        clock = FarClock(stream.begun, frames, Mirror(Path(directory)))
        if not clock.begin():
            raise Garbled("it ended before anything was read")
        mirrored = wishes._replace(root=Path(directory))
        by = SampledBy(stream.begun.pid, stream.begun.is_privileged)
        path = run_capture(mirrored, clock, follow, by)
        # what is left is the word that it came to its end
        with suppress(Garbled):
            next(frames, None)
        return path


def _command(far: Far, wishes: Wishes) -> list[str]:
    """Return the call of ssh(1); every login shell understands what it is told."""
    shell, own = "sudo -n sh -s" if far.sudo else "sh -s", ""
    if not far.sudo:
        span = f"--for {wishes.duration_s:g}s --every {wishes.every_s:g}s"
        own = (
            "if command -v dunmist >/dev/null 2>&1; then "
            f"echo @native; exec dunmist capture -o - {span} 2>/dev/null; fi; "
        )
    told = f"exec sh -c '{own}exec {shell}'"
    port = ["-p", str(far.host.port)] if far.host.port else []
    alive = ["-o", "ServerAliveInterval=5", "-o", "ServerAliveCountMax=4"]
    return [SSH, "-T", "-C", "-o", "ConnectTimeout=15", *alive, *port, "--", far.host.name, told]


@contextmanager
def _started(
    far: Far, wishes: Wishes, complaints: IO[bytes]
) -> "Iterator[subprocess.Popen[bytes]]":
    """Run ssh(1), which asks for passwords and host keys at the terminal by itself."""
    ssh = subprocess.Popen(
        _command(far, wishes), stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=complaints,
        bufsize=0,
    )  # fmt: skip
    try:
        yield ssh
    finally:
        for stream in (ssh.stdin, ssh.stdout):
            if stream is not None:
                with suppress(OSError):
                    stream.close()
        try:
            ssh.wait(_ENDED_S)
        except subprocess.TimeoutExpired:
            ssh.kill()
            ssh.wait()


def _feed(stdin: IO[bytes], script: str) -> IO[bytes]:
    """Give the far shell its script; a pipe holds all of it."""
    with suppress(BrokenPipeError):
        stdin.write(script.encode())
    return stdin


class _Line:
    """What comes over the line, until it ends, is silent for too long, or is told to stop."""

    def __init__(self, descriptor: int, silent_s: float) -> None:
        self._descriptor, self._silent_s = descriptor, silent_s
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
        ready, _, _ = select.select([self._descriptor, self._stopped], [], [], self._silent_s)
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


def _why(
    far: Far, ssh: "subprocess.Popen[bytes]", complaints: IO[bytes], line: _Line,
    error: Garbled | None,
) -> str:  # fmt: skip
    """Return in one line what ended it: what ssh said, silence, or what came instead."""
    host = far.host.name
    if line.was_stopped:
        return f"{host}: stopped"
    if line.was_silent:
        return f"{host}: no word for {line._silent_s:.0f} s"
    with suppress(subprocess.TimeoutExpired):
        ssh.wait(_ENDED_S)
    complaints.seek(0)
    said = [
        text.strip() for text in complaints.read(1 << 16).decode("utf-8", "replace").splitlines()
    ]
    last = next((text for text in reversed(said) if text), None)
    if last:
        return f"{host}: {last}"
    return f"{host}: {error}" if error else f"{host}: the line broke"


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
