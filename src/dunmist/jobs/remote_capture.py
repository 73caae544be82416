"""Capture a remote computer, over SSH or from a file that the collector left.

The remote shell reads the collector from its standard input and writes to its standard output.
Nothing is written there. If the remote computer has this program, it samples there, and its capture
is sent.
"""

import gzip
import time
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, NamedTuple, Protocol

from dunmist.captures import CaptureReader
from dunmist.computer import Root
from dunmist.errors import CaptureError, UnreadableComputer
from dunmist.jobs.capture import CaptureOptions, Follower, SampledBy, follow_nothing, run_capture
from dunmist.output import NewFile, write_all
from dunmist.remote import Garbled, MemoryRoot, Mirror, RemoteClock, Stream
from dunmist.remote.channel import LINE_MOST_BYTES, Connection
from dunmist.remote.collected_file import opened
from dunmist.remote.transport import Transport
from dunmist.sampling import Clock, Tick

NATIVE = b"@native\n"
# an hour of a thousand processes at one tick a second is a fifth of it
SENT_MAX_BYTES = 512 << 20
# a recorder ends on a signal
TICKS_FOR_EVER = 999_999_999


class RemoteCapture(NamedTuple):
    """Path of the capture, the user that sampled it, and remarks on it."""

    path: Path
    by: str
    remark: str | None = None


class StoppableClock(Clock, Protocol):
    """A clock whose waits can be ended."""

    def stop(self) -> None:
        """End the current and every later wait at once."""


class Source(NamedTuple):
    """Sampled root, its clock, and the process that reads for us, None without one."""

    root: Root
    clock: StoppableClock
    by: SampledBy | None


def capture_on(
    transport: Transport, options: CaptureOptions, follow: Follower = follow_nothing
) -> RemoteCapture:
    """Sample a remote computer; raises UnreadableComputer, WrongUsage, OutputError."""
    with transport.open(options.every_s, _own_program(transport, options)) as connection:
        connection.feed(round(options.duration_s / options.every_s), options.every_s)
        mark = b"@" + connection.mark.encode()
        if transport.may_sample_itself and connection.channel.begins_with(NATIVE, mark):
            return _take_over(connection, options)
        stream = connection.stream()
        with _mirrored(stream, transport.label, connection.channel.stop) as source:
            path = _sampled(source, options, follow)
            _end_of(stream)
        remark = None if stream.is_whole else f"{connection.why()}; what arrived is kept"
        return RemoteCapture(path, "a shell", remark)


@contextmanager
def remote_source(transport: Transport, every_s: float) -> Iterator[Source]:
    """Yield a remote computer that is sampled without end; raises UnreadableComputer."""
    with transport.open(every_s) as connection:
        connection.feed(TICKS_FOR_EVER, every_s)
        with _mirrored(connection.stream(), transport.label, connection.channel.stop) as source:
            yield source
        if not connection.channel.was_stopped and connection.client.poll() is not None:
            raise UnreadableComputer(f"{connection.why()}; what arrived is kept")


def capture_from(
    file: Path, options: CaptureOptions, follow: Follower = follow_nothing
) -> RemoteCapture:
    """Make a capture of a file that the collector left; raises CaptureError and OutputError."""
    try:
        with opened(file) as lines:
            stream = Stream(_bounded(lines))
            begun = stream.begun
            asked = options._replace(duration_s=begun.ticks * begun.every_s, every_s=begun.every_s)
            with _mirrored(stream, str(file), _nobody) as source:
                path = _sampled(source, asked, follow)
                _end_of(stream)
    except Garbled as error:
        raise CaptureError(
            f"{file}: not a file of the collector ({error}); send it again"
        ) from error
    except (OSError, EOFError) as error:
        reason = getattr(error, "strerror", None) or "it ends too early"
        raise CaptureError(f"{file}: {reason}; give the file that the collector left") from error
    remark = None if stream.is_whole else "the file ends too early; what it holds is kept"
    return RemoteCapture(path, "the collector", remark)


def _nobody() -> None:
    """A file ends by itself."""


def _bounded(lines: "gzip.GzipFile | IO[bytes]") -> Iterator[bytes]:
    """Yield the lines of a file; one that is cut short or damaged just ends."""
    with suppress(EOFError, OSError, zlib.error):
        while line := lines.readline(LINE_MOST_BYTES):
            yield line


@contextmanager
def _mirrored(stream: Stream, label: str, stop: Callable[[], None]) -> Iterator[Source]:
    """Give the root and the clock of a stream, at its first frame; raises Garbled without any."""
    root = MemoryRoot(label)
    try:
        clock = RemoteClock(stream.begun, stream.frames(), Mirror(root), stop)
        if not clock.begin():
            raise Garbled(clock.trouble or "it ended before anything was read")
        by = SampledBy(stream.begun.pid, stream.begun.is_privileged)
        yield Source(root, clock, by)
    finally:
        root.close()


def _sampled(source: Source, options: CaptureOptions, follow: Follower) -> Path:
    return run_capture(options, source.clock, follow, source.by, source.root)


def _own_program(transport: Transport, options: CaptureOptions) -> str:
    """Return the sh(1) command that runs Dunmist on the remote computer."""
    if not transport.may_sample_itself:
        return ""
    span = f"--for {options.duration_s:g}s --every {options.every_s:g}s"
    return (
        "if command -v dunmist >/dev/null 2>&1; then "
        f"echo @native; exec dunmist capture -o - {span} 2>/dev/null; fi; "
    )


def _end_of(stream: Stream) -> None:
    """Take what is left: the word that it came to its end."""
    with suppress(Garbled):
        next(stream.frames(), None)


class _Arriving:
    """Output of the remote program, written to a file while it is read."""

    def __init__(self, chunks: Iterator[bytes], descriptor: int) -> None:
        self._chunks, self._descriptor = chunks, descriptor
        self._taken_bytes = 0

    def read(self, size: int, /) -> bytes:
        """Return the next chunk, whatever its size; raises CaptureError when too much came."""
        del size
        data = next(self._chunks, b"")
        self._taken_bytes += len(data)
        if self._taken_bytes > SENT_MAX_BYTES:
            raise CaptureError(f"it is longer than {SENT_MAX_BYTES >> 20} MiB")
        write_all(self._descriptor, data)
        return data

    def close(self) -> None:
        """Leave the file open: it is put in place afterwards."""


def _take_over(connection: Connection, options: CaptureOptions) -> RemoteCapture:
    """Keep the capture that the remote program sends; raises CaptureError where it is none.

    Each line is checked as it arrives, as a capture in a file is.
    """
    output = options.output or Path(f"far-{time.strftime('%Y%m%d-%H%M%S')}.jsonl.gz")
    asked_ticks = round(options.duration_s / options.every_s) + 1
    new = NewFile(output, force=options.force)
    try:
        arriving = _Arriving(connection.channel.rest(), new.descriptor)
        with CaptureReader(Path(connection.label), arriving) as reader:
            for ticks, _ in enumerate(line for line in reader.lines() if isinstance(line, Tick)):
                if ticks > asked_ticks:
                    raise CaptureError(f"it sends more than the {asked_ticks} ticks asked for")
        new.put_in_place()
    except CaptureError as error:
        raise CaptureError(
            f"{connection.label}: what its dunmist sent is refused ({error}); nothing was kept"
        ) from error
    finally:
        new.discard()
    remark = f"{connection.why()}; what arrived is kept" if reader.damage else None
    return RemoteCapture(output, "the program that the remote computer has", remark)
