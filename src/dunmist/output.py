"""The one way to write a file: to a temporary name next to it, renamed when it is complete.

A file that is there already is never opened: nothing goes through a link, into a device or a FIFO,
or into what somebody else owns and reads. With ``force`` a plain file of one's own is replaced.
"""

import os
import stat
from pathlib import Path

from dunmist.errors import OutputError

STANDARD = "-"
NEW_FLAGS = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC


def check_output(path: Path, *, force: bool) -> None:
    """Raise OutputError when a file may not be written there; writes nothing."""
    if str(path) == STANDARD:
        return
    if not path.parent.is_dir():
        raise OutputError(f"{path}: directory {path.parent} does not exist; make it first")
    try:
        there = path.lstat()
    except FileNotFoundError:
        there = None
    except OSError as error:
        raise OutputError(f"{path}: {error.strerror}; choose another path with -o") from error
    if there is not None:
        _check_replaceable(path, there, force=force)
    if not os.access(path.parent, os.W_OK):
        raise OutputError(f"{path}: cannot be written; choose another path with -o")


def _check_replaceable(path: Path, there: os.stat_result, *, force: bool) -> None:
    if stat.S_ISDIR(there.st_mode):
        raise OutputError(f"{path}: is a directory; name a file in it")
    if not stat.S_ISREG(there.st_mode):
        kind = "a link" if stat.S_ISLNK(there.st_mode) else "no plain file"
        raise OutputError(f"{path}: is {kind}, and nothing is written through it; name a new file")
    if not force:
        raise OutputError(f"{path}: exists already; name another file or add --force")
    if there.st_uid != os.geteuid():
        raise OutputError(f"{path}: belongs to somebody else; name another file")


class NewFile:
    """A file of mode 0600 that is being written next to its destination; raises OutputError.

    ``put_in_place`` gives it its name, as often as wanted; what never gets it is ``discard``-ed.
    """

    def __init__(self, path: Path, *, force: bool) -> None:
        check_output(path, force=force)
        self.path, self._force = path, force
        self._is_in_place = False
        self._temporary = path.parent / f".dunmist-{os.urandom(8).hex()}"
        try:
            self.descriptor = os.open(self._temporary, NEW_FLAGS, 0o600)
        except OSError as error:
            raise OutputError(f"{path}: {error.strerror}; choose another path with -o") from error

    def put_in_place(self) -> None:
        """Give it its name; whatever was put there meanwhile is looked at again."""
        if self._is_in_place:
            return
        check_output(self.path, force=self._force)
        try:
            if self._force:
                self._temporary.replace(self.path)
            else:
                self._rename_to_what_is_not_there()
        except FileExistsError as error:
            raise OutputError(
                f"{self.path}: exists already; name another file or add --force"
            ) from error
        except OSError as error:
            raise OutputError(
                f"{self.path}: {error.strerror}; choose another path with -o"
            ) from error
        self._is_in_place = True

    def discard(self) -> None:
        """Close it, and leave nothing of what has not been put in place."""
        os.close(self.descriptor)
        if not self._is_in_place:
            self._temporary.unlink(missing_ok=True)

    def _rename_to_what_is_not_there(self) -> None:
        try:
            # a link fails where something has come in between, a renaming would replace it
            self.path.hardlink_to(self._temporary)
        except FileExistsError:
            raise
        except OSError:
            self._temporary.rename(self.path)  # a file system without links
            return
        self._temporary.unlink()


def write_all(descriptor: int, data: bytes) -> None:
    """Write all bytes, however many the system takes at once; raises OSError."""
    view = memoryview(data)
    while view:
        view = view[os.write(descriptor, view) :]


def write_whole(path: Path, data: bytes, *, force: bool) -> None:
    """Write a file whole or not at all; raises OutputError."""
    new = NewFile(path, force=force)
    try:
        write_all(new.descriptor, data)
        new.put_in_place()
    except OSError as error:
        raise OutputError(
            f"{path}: {error.strerror} while writing, and nothing was kept; choose another path "
            "with -o"
        ) from error
    finally:
        new.discard()
