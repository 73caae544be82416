"""A collector's file in the place of a capture: made into one, for as long as the program runs."""

import atexit
import shutil
import tempfile
import zlib
from pathlib import Path

from dunmist.elsewhere.carried import opened
from dunmist.elsewhere.stream import is_collected
from dunmist.errors import CaptureError

BEGINNING_BYTES = 200


def capture_of_collected(path: Path) -> Path | None:
    """Return a capture made of a collector's file, None where the file is something else.

    Raises CaptureError where it is damaged from its beginning on.
    """
    if not _is_collected(path):
        return None
    from dunmist.jobs.capture import Wishes
    from dunmist.jobs.far import capture_from

    folder = Path(tempfile.mkdtemp(prefix="dunmist-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    name = path.name.removesuffix(".gz").removesuffix(".txt")
    return capture_from(path, Wishes(folder / f"{name}.jsonl.gz", 1.0, 1.0)).path


def _is_collected(path: Path) -> bool:
    try:
        with opened(path) as file:
            return is_collected(file.read(BEGINNING_BYTES))
    except (CaptureError, OSError, EOFError, zlib.error):
        return False  # whoever reads it says why
