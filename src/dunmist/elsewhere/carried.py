"""Opens a file that the collector left, packed or not."""

import gzip
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

GZIP = b"\x1f\x8b"


@contextmanager
def opened(path: Path) -> "Iterator[gzip.GzipFile | IO[bytes]]":
    """Give the text of a file; raises OSError, and where it is damaged EOFError and zlib.error."""
    with path.open("rb") as plain:
        is_packed = plain.read(len(GZIP)) == GZIP
        plain.seek(0)
        if not is_packed:
            yield plain
            return
        with gzip.GzipFile(fileobj=plain) as unpacked:
            yield unpacked
