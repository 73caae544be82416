"""Cache the record of each capture, by its contents and the version of this program.

An interrupted run goes on where it was; a capture that did not change is not judged again.
"""

import hashlib
import os
import stat
from pathlib import Path

import msgspec

from dunmist import __version__
from dunmist.errors import CaptureError, OutputError
from dunmist.fleet.records import SCHEMA_VERSION, Record
from dunmist.output import write_whole
from dunmist.plain_files import open_plain

FOLDER, PLACE_DIGITS, MODE = "done", 12, 0o700
# the triage of the greatest capture that is read has some MiB
RECORD_MAX_BYTES = 64 << 20


class Done:
    """The records below a folder."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder / FOLDER / f"{__version__}-{SCHEMA_VERSION}"
        for directory in (self._folder.parent, self._folder):
            directory.mkdir(parents=True, exist_ok=True, mode=MODE)
            about = directory.lstat()
            # a file of this name is taken for a result of ours
            if not stat.S_ISDIR(about.st_mode) or about.st_uid != os.geteuid():
                raise OutputError(
                    f"{directory}: not a directory that you own; move it away, or choose another -o"
                )

    def has(self, key: str, place: str) -> bool:
        """Whether contents that lie at this place were judged."""
        return self._path(key, place).exists()

    def get(self, key: str, place: str) -> Record | None:
        """Return a record, None if there is none or it is damaged."""
        try:
            with open_plain(self._path(key, place)) as file:
                kept: Record = msgspec.json.decode(file.read(RECORD_MAX_BYTES), type=Record)
                return kept
        except (OSError, CaptureError, msgspec.MsgspecError):
            return None

    def put(self, record: Record) -> None:
        """Keep a record, whole or not at all; raises OutputError."""
        path = self._path(record.file.key, record.file.place)
        write_whole(path, msgspec.json.encode(record), force=True)

    def _path(self, key: str, place: str) -> Path:
        # the triage names the place, so contents that moved are judged again
        where = hashlib.sha256(place.encode()).hexdigest()[:PLACE_DIGITS]
        return self._folder / f"{key}-{where}.json"
