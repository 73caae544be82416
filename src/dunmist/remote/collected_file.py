"""Open a file that the collector left, compressed or not."""

import gzip
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from dunmist.plain_files import open_plain

GZIP = b"\x1f\x8b"


@contextmanager
def opened(path: Path) -> "Iterator[gzip.GzipFile | IO[bytes]]":
    """Give the text of a file; raises CaptureError, OSError, EOFError and zlib.error."""
    with open_plain(path) as plain:
        is_packed = plain.read(len(GZIP)) == GZIP
        plain.seek(0)
        if not is_packed:
            yield plain
            return
        with gzip.GzipFile(fileobj=plain) as unpacked:
            yield unpacked
