"""Convert a collector file into a temporary capture."""

import atexit
import shutil
import tempfile
import zlib
from pathlib import Path

from dunmist.errors import CaptureError
from dunmist.remote.collected_file import opened
from dunmist.remote.frame_stream import is_collected

# the first line of a collector's file is shorter
BEGINNING_BYTES = 200


def capture_of_collected(path: Path) -> Path | None:
    """Return a capture made of a collector's file, None if the file is something else.

    Raises CaptureError where it is damaged from its beginning on.
    """
    if not _is_collected(path):
        return None
    from dunmist.jobs.capture import CaptureOptions
    from dunmist.jobs.remote_capture import capture_from

    folder = Path(tempfile.mkdtemp(prefix="dunmist-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    name = path.name.removesuffix(".gz").removesuffix(".txt")
    return capture_from(path, CaptureOptions(folder / f"{name}.jsonl.gz", 1.0, 1.0)).path


def _is_collected(path: Path) -> bool:
    try:
        with opened(path) as file:
            return is_collected(file.read(BEGINNING_BYTES))
    except (CaptureError, OSError, EOFError, zlib.error):
        return False  # the reader reports the error
