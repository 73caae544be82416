"""The lock of the recorder: one of each user, and whether it runs."""

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from dunmist.errors import Refused
from dunmist.jobs.settings import watch_directory

LOCK = "lock"


def is_recorded() -> bool:
    """Whether a recorder of this user runs."""
    try:
        file = (watch_directory() / LOCK).open("rb")
    except (FileNotFoundError, NotADirectoryError, PermissionError):
        # a directory that cannot be read holds no recorder of this user
        return False
    with file:
        try:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
        except BlockingIOError:
            return True
    return False


@contextmanager
def locked(folder: Path) -> Iterator[None]:
    """Hold the lock of a recorder's folder; raises Refused where another one has it."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    descriptor = os.open(folder / LOCK, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        yield
    except BlockingIOError as error:
        raise Refused(
            f"{folder}: a recorder runs there already; 'dunmist watch list' shows what it has"
        ) from error
    finally:
        os.close(descriptor)
