"""Captures a computer that is elsewhere: over the technician's own OpenSSH client, or from a file.

The far shell is fed the collector over its standard input and writes to its standard output;
nothing is written there. Where the far computer has this program, that samples, and its capture is
sent.
"""

import gzip
import os
import tempfile
import time
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, NamedTuple, Protocol

from dunmist.elsewhere import FarClock, Garbled, Mirror, Stream
from dunmist.elsewhere.carried import opened
from dunmist.errors import CaptureError, UnreadableComputer
from dunmist.jobs.capture import Follower, SampledBy, Wishes, follow_nothing, run_capture
from dunmist.jobs.ssh_line import LINE_MOST_BYTES, Far, Line, connected
from dunmist.output import NewFile
from dunmist.sampling import Clock

MEMORY_DIRECTORY = "/dev/shm"
NATIVE = b"@native\n"
# a recorder ends when it is told to
TICKS_FOR_EVER = 999_999_999


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
    with connected(far, _own_program(far, wishes), wishes.every_s) as connection:
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
    with connected(far, "", every_s) as connection:
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


def _end_of(stream: Stream) -> None:
    """Take what is left: the word that it came to its end."""
    with suppress(Garbled):
        next(stream.frames(), None)


def _take_over(line: Line, wishes: Wishes) -> Path:
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
