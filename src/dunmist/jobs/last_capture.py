"""Remember the newest capture of this user, so that ``last`` names it."""

import logging
import os
from pathlib import Path

from dunmist.errors import CaptureError, OutputError
from dunmist.jobs.settings import state_directory
from dunmist.output import STANDARD, write_whole

NAME = "last-capture"
# longer is no path that open(2) takes
PATH_MAX_BYTES = 4096
log = logging.getLogger(__name__)


def remember(capture: Path) -> None:
    """Keep where a capture lies; it is no error if that cannot be written."""
    if str(capture) == STANDARD:
        return
    directory = state_directory()
    try:
        directory.mkdir(mode=0o700, parents=True, exist_ok=True)
        write_whole(directory / NAME, os.fsencode(capture.absolute()), force=True)
    except (OSError, OutputError) as error:
        log.info("%s: where the newest capture lies is not remembered (%s)", directory, error)


def last_capture() -> Path:
    """Return the newest capture; raises CaptureError if there is none any more."""
    remembered = state_directory() / NAME
    try:
        with remembered.open("rb") as file:
            path = Path(os.fsdecode(file.read(PATH_MAX_BYTES)))
    except OSError:
        raise CaptureError("last: no capture was written yet; run 'dunmist capture'") from None
    if not path.is_file():
        raise CaptureError(f"last: {path} is gone; name another capture")
    return path
