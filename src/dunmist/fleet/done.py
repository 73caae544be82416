"""What was made already: a record of each capture, by its contents and the version of this program.

An interrupted run goes on where it was; a capture that did not change is not judged again.
"""

import hashlib
import os
from pathlib import Path

import msgspec

from dunmist import __version__
from dunmist.fleet.records import SCHEMA_VERSION, Record

FOLDER, PLACE_DIGITS = "done", 12


class Done:
    """The records below a folder."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder / FOLDER / f"{__version__}-{SCHEMA_VERSION}"
        self._folder.mkdir(parents=True, exist_ok=True)

    def has(self, key: str, place: str) -> bool:
        """Whether contents that lie at this place were judged."""
        return self._path(key, place).exists()

    def get(self, key: str, place: str) -> Record | None:
        """Return a record, None where there is none or it is damaged."""
        try:
            return msgspec.json.decode(self._path(key, place).read_bytes(), type=Record)
        except (OSError, msgspec.MsgspecError):
            return None

    def put(self, record: Record) -> None:
        """Keep a record, whole or not at all."""
        path = self._path(record.capture.key, record.capture.place)
        beside = path.with_suffix(f".{os.getpid()}")
        beside.write_bytes(msgspec.json.encode(record))
        beside.replace(path)

    def _path(self, key: str, place: str) -> Path:
        # the triage names the place, so contents that moved are judged again
        where = hashlib.sha256(place.encode()).hexdigest()[:PLACE_DIGITS]
        return self._folder / f"{key}-{where}.json"
