"""Sample this computer briefly, for a question about its present state."""

import contextlib
import tempfile
from collections.abc import Iterator
from pathlib import Path

from dunmist.jobs.capture import CaptureOptions, run_capture

# long enough for a rate, and short enough for somebody who waits for the answer
DURATION_S, EVERY_S = 2.0, 0.5
NAME = "now.jsonl.gz"
FOLDER = "dunmist-now-"


@contextlib.contextmanager
def quick_sample(*, with_code: bool = False) -> Iterator[Path]:
    """Give a capture of two seconds of now, which is removed afterwards.

    ``with_code`` samples what programs are doing as well. Raises UnreadableComputer or OutputError.
    """
    with tempfile.TemporaryDirectory(prefix=FOLDER) as folder:
        options = CaptureOptions(Path(folder) / NAME, DURATION_S, EVERY_S, with_code=with_code)
        yield run_capture(options)


def is_quick_sample(path: Path) -> bool:
    """Whether a capture is such a one, of which nothing is left afterwards."""
    return path.name == NAME and path.parent.name.startswith(FOLDER)
