"""Open files that somebody else may have put there: plain files only, and without waiting.

A FIFO or a terminal with the name of a capture would hang the program that opens it.
"""

import os
import stat
from pathlib import Path
from typing import BinaryIO

from dunmist.errors import CaptureError

FLAGS = os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC


def open_plain(path: Path) -> BinaryIO:
    """Return an open plain file; raises CaptureError where it is none, and OSError."""
    descriptor = os.open(path, FLAGS)
    mode = os.fstat(descriptor).st_mode
    if not stat.S_ISREG(mode):
        os.close(descriptor)
        kind = "a directory" if stat.S_ISDIR(mode) else "no plain file"
        raise CaptureError(f"{path}: is {kind}; give a capture, or - for standard input")
    return os.fdopen(descriptor, "rb")
