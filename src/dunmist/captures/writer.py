"""Writes a capture: records in, a gzip stream of JSON Lines out, flushed at every tick.

After each tick the whole stream so far can be read, whatever happens next. The compressor is
flushed to a byte boundary (zlib's Z_SYNC_FLUSH). A thread of its own hands the file to the disk, so
that a slow disk delays no tick. A disk that fills up leaves a file cut back to whole ticks.
"""

import os
import sys
import threading
import zlib
from pathlib import Path
from types import TracebackType

import msgspec

from dunmist.captures.record_masking import without_secrets
from dunmist.captures.redaction import Rules, load_rules
from dunmist.captures.schema import Footer, Line
from dunmist.errors import OutputError
from dunmist.output import STANDARD, NewFile
from dunmist.sampling import Tick

GZIP_WINDOW = 31  # zlib's window bits, with a gzip header and trailer


class CaptureWriter:
    """A capture being written; use it as a context manager.

    Secrets are masked by ``rules``, those that are shipped where none are given. Raises OutputError
    when the file exists and ``force`` is not given, or cannot be written.
    """

    def __init__(self, path: Path, *, force: bool = False, rules: Rules | None = None) -> None:
        self.path = path
        self._rules = rules or load_rules()
        self._encoder = msgspec.json.Encoder()
        self._gzip = zlib.compressobj(6, zlib.DEFLATED, GZIP_WINDOW)
        self._file = None if str(path) == STANDARD else NewFile(path, force=force)
        self._is_file = self._file is not None
        self._descriptor = self._file.descriptor if self._file else sys.stdout.fileno()
        self._syncer = _Syncer(self._descriptor) if self._is_file else None
        self._whole_bytes = 0

    def __enter__(self) -> "CaptureWriter":
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        if self._syncer:
            self._syncer.finish()
        if self._file:
            self._file.discard()

    def write(self, line: Line) -> None:
        """Add one line, its secrets masked; a tick or a footer is flushed."""
        encoded = self._encoder.encode(without_secrets(line, self._rules)) + b"\n"
        data = self._gzip.compress(encoded)
        if isinstance(line, Tick):
            data += self._gzip.flush(zlib.Z_SYNC_FLUSH)
        elif isinstance(line, Footer):
            data += self._gzip.flush(zlib.Z_FINISH)
        self._put(data)
        if isinstance(line, Tick | Footer):
            self._mark_whole()

    def _put(self, data: bytes) -> None:
        try:
            while data:
                data = data[os.write(self._descriptor, data) :]
        except OSError as error:
            kept = "nothing was kept"
            if self._whole_bytes and self._is_file:
                os.ftruncate(self._descriptor, self._whole_bytes)
                kept = "the ticks so far are kept and can be read"
            raise OutputError(
                f"{self.path}: {error.strerror} while writing; {kept}, "
                f"so make room or choose another path with -o"
            ) from error

    def _mark_whole(self) -> None:
        if self._file:
            self._whole_bytes = os.lseek(self._descriptor, 0, os.SEEK_CUR)
            # from the first whole tick on it is worth having, whatever happens next
            self._file.put_in_place()
        if self._syncer:
            self._syncer.ask()


class _Syncer:
    """Hands what was written to the disk, at most one request at a time (fdatasync(2))."""

    def __init__(self, descriptor: int) -> None:
        self._descriptor = descriptor
        self._asked = threading.Event()
        self._finished = False
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def ask(self) -> None:
        self._asked.set()

    def finish(self) -> None:
        self._finished = True
        self._asked.set()
        self._thread.join()

    def _run(self) -> None:
        while not self._finished:
            self._asked.wait()
            self._asked.clear()
            try:
                os.fdatasync(self._descriptor)
            except OSError:
                return  # no disk behind this file; a failing disk shows at the next write
