"""Reads a capture back, line by line, as far as it is whole.

Takes a path (``-`` is standard input), gives the header and then the lines as records. A file that
ends early or is damaged further on is read up to there, and ``damage`` says so. A file that is no
capture, or of a newer major version, raises CaptureError.
"""

import sys
import zlib
from collections.abc import Iterator
from contextlib import ExitStack
from datetime import datetime
from pathlib import Path
from typing import Protocol

import msgspec

from dunmist.captures.schema import FORMAT, KINDS, MAJOR, Footer, Header, Line, major_of
from dunmist.errors import CaptureError
from dunmist.plain_files import open_plain
from dunmist.sampling import Tick

# bytes read from the file at a time
CHUNK_BYTES = 1 << 16
# and how much of it is unpacked at a time, so that a bomb cannot fill the memory
UNPACKED_BYTES = 1 << 20
# longer than any line of the writer, and a bound for hostile ones
LINE_MAX_BYTES = 64 << 20
# a day of a thousand processes at one a second; a file of a few MiB can unpack to more
WHOLE_MAX_BYTES = 8 << 30
# five days of one tick a second
TICKS_MAX = 500_000
# how the lines of ticks begin, and the size below which a file is no long capture
TICK, LARGE_BYTES = b'{"kind":"tick"', 1 << 17
GZIP_MAGIC = b"\x1f\x8b"
MAKE_ONE = "make one with 'dunmist capture -o FILE'"


class _Kind(msgspec.Struct):
    kind: str
    format: str | None = None
    version: str | None = None


class ByteStream(Protocol):
    """Source of a capture; ``read`` returns nothing at the end."""

    def read(self, size: int, /) -> bytes:
        """Return some bytes, about as many as asked for."""

    def close(self) -> None:
        """Give back what is held."""


class CaptureReader:
    """A capture file that is open; use it as a context manager and iterate over ``lines()``.

    ``stream`` is read in place of the file, which only messages name then.
    """

    def __init__(self, path: Path, stream: ByteStream | None = None) -> None:
        self.path = path
        self.damage: str | None = None
        self.complete = False
        self._decoder: msgspec.json.Decoder[Line] = msgspec.json.Decoder(Line)
        self._stream = stream or _open(path)
        with ExitStack() as unless_read:
            unless_read.callback(self._stream.close)
            self._lines = self._raw_lines()
            self.header = self._read_header()
            unless_read.pop_all()

    def __enter__(self) -> "CaptureReader":
        return self

    def __exit__(self, *_: object) -> None:
        self._stream.close()

    def lines(self) -> Iterator[Line]:
        """Yield every line after the header; raises CaptureError when there is no tick."""
        ticks = 0
        for number, raw in enumerate(self._lines, start=2):
            line = self._decode(raw, number)
            if line is None:
                continue
            ticks += isinstance(line, Tick)
            if ticks > TICKS_MAX:
                raise CaptureError(
                    f"{self.path}: line {number} is beyond {TICKS_MAX} ticks, more than are read; "
                    f"{MAKE_ONE}"
                )
            if isinstance(line, Footer):
                self.complete = True
            yield line
        if not ticks:
            raise CaptureError(f"{self.path}: no tick in it, so it cannot be judged; {MAKE_ONE}")
        if not self.complete and not self.damage:
            self.damage = "it ends without a footer"

    def count_ticks(self) -> int:
        """Return the number of ticks after the header, without decoding them."""
        return sum(raw.startswith(TICK) for raw in self._lines)

    def _decode(self, raw: bytes, number: int) -> Line | None:
        try:
            return self._decoder.decode(raw)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
            kind = _kind_of(raw)
            if kind is not None and kind.kind not in KINDS:
                return None
            raise CaptureError(
                f"{self.path}: line {number} is not as a capture has it ({error}); sample again"
            ) from error

    def _read_header(self) -> Header:
        first = next(self._lines, b"")
        kind = _kind_of(first)
        if kind is None or kind.kind != "header" or kind.format != FORMAT:
            raise self._no_header()
        major = major_of(kind.version or "")
        if major is None or major > MAJOR:
            raise CaptureError(
                f"{self.path}: has format version {kind.version!r}, and this program reads up to "
                f"{MAJOR}; update dunmist to read it"
            )
        header = self._decode(first, 1)
        assert isinstance(header, Header)
        try:
            datetime.fromisoformat(header.started).timestamp()
        except (ValueError, OverflowError) as error:
            raise CaptureError(
                f"{self.path}: line 1 has no date that it was started at ({error}); {MAKE_ONE}"
            ) from error
        return header

    def _no_header(self) -> CaptureError:
        return CaptureError(f"{self.path}: no header in line 1, so not a capture; {MAKE_ONE}")

    def _raw_lines(self) -> Iterator[bytes]:
        # a line comes in parts, which are joined once: line by line it would cost the square
        parts: list[bytes] = []
        part_bytes = whole_bytes = 0
        for data in self._unpacked():
            if data and not whole_bytes and not data.startswith(b"{"):
                raise self._no_header()
            whole_bytes += len(data)
            if whole_bytes > WHOLE_MAX_BYTES:
                raise CaptureError(
                    f"{self.path}: unpacks to more than {WHOLE_MAX_BYTES >> 30} GiB, more than is "
                    f"read; {MAKE_ONE}"
                )
            first, *lines = data.split(b"\n")
            parts.append(first)
            part_bytes += len(first)
            if part_bytes > LINE_MAX_BYTES:
                raise CaptureError(f"{self.path}: has a line without end, so not a capture")
            if lines:
                yield b"".join(parts)
                yield from lines[:-1]
                parts, part_bytes = [lines[-1]], len(lines[-1])
        if part_bytes and not self.damage:
            self.damage = "its last line is cut short"

    def _unpacked(self) -> Iterator[bytes]:
        data = self._stream.read(CHUNK_BYTES)
        if not data:
            raise CaptureError(f"{self.path}: is empty; {MAKE_ONE}")
        if not data.startswith(GZIP_MAGIC):
            while data:
                yield data
                data = self._stream.read(CHUNK_BYTES)
            return
        unzip = zlib.decompressobj(31)
        while data and not unzip.eof:
            try:
                yield unzip.decompress(data, UNPACKED_BYTES)
            except zlib.error:
                self.damage = "it is damaged further on"
                return
            data = unzip.unconsumed_tail or self._stream.read(CHUNK_BYTES)
        if not unzip.eof:
            self.damage = "it is cut short"


def count_ticks(path: Path) -> int | None:
    """Return the approximate number of ticks; None if the file is small or cannot be read twice."""
    try:
        if str(path) == "-" or path.stat().st_size < LARGE_BYTES:
            return None
        with CaptureReader(path) as reader:
            return reader.count_ticks()
    except (OSError, CaptureError):
        return None  # the reader that follows reports the error


def _open(path: Path) -> ByteStream:
    if str(path) == "-":
        return sys.stdin.buffer
    try:
        return open_plain(path)
    except OSError as error:
        raise CaptureError(f"{path}: {error.strerror}; give the path of a capture") from error


def _kind_of(raw: bytes) -> _Kind | None:
    try:
        return msgspec.json.decode(raw, type=_Kind)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        return None
