"""Open directories and settings files that no other user can replace.

An administrator must not write to, or read settings from, a path that another user can change. Each
component is opened and checked by itself, and the descriptor is used from then on (openat(2)).
"""

import os
import pwd
import stat
from contextlib import ExitStack
from pathlib import Path

from dunmist.errors import SettingsError

ROOT = 0
# a settings file of people has a few lines
SETTINGS_MAX_BYTES = 1 << 20
DIRECTORY_FLAGS = os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC
SETTINGS_FLAGS = os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC


class Untrusted(Exception):
    """Another user can change a component of a path; the text names both."""


def open_directory(path: Path, *, make_mode: int | None = None) -> int:
    """Return an O_PATH descriptor of a directory that only its owner and root can change.

    With ``make_mode`` missing components are made. Raises Untrusted and OSError.
    """
    so_far = Path("/")
    with ExitStack() as held:
        directory = os.open("/", DIRECTORY_FLAGS)
        held.callback(os.close, directory)
        for name in path.absolute().parts[1:]:
            so_far /= name
            if make_mode is not None:
                _make(name, make_mode, directory)
            inner = os.open(name, DIRECTORY_FLAGS, dir_fd=directory)
            held.close()
            directory = inner
            held.callback(os.close, directory)
            _check(so_far, os.fstat(directory))
        # the last one is the caller's
        held.pop_all()
    return directory


def check_directory(path: Path) -> None:
    """Raise Untrusted where somebody else can change an existing component of a path."""
    try:
        os.close(open_directory(path))
    except FileNotFoundError:
        return  # missing directories are created below the checked one
    except OSError as error:
        raise Untrusted(f"{path}: {error.strerror}") from error


def who_can_change(path: Path) -> str | None:
    """Return the component of a path that another user than root can change, None if none.

    Links are followed, and what they lead to is looked at as well.
    """
    left, seen = [path.absolute()], set[Path]()
    while left:
        current = left.pop()
        for component in (current, *current.parents):
            if component in seen:
                continue
            seen.add(component)
            try:
                about = component.lstat()
            except OSError as error:
                return f"{component}: {error.strerror}"
            if about.st_uid != ROOT:
                return f"{component} belongs to {_owner(about)}"
            if stat.S_ISLNK(about.st_mode):
                left.append(component.parent / component.readlink())
            elif about.st_mode & _others(about) and not about.st_mode & stat.S_ISVTX:
                return f"{component} can be changed by others"
    return None


def read_settings(path: Path) -> str | None:
    """Return the text of a settings file, None if there is none that is ours.

    Only a plain file is read, without waiting; as administrator only the administrator's own.
    Raises SettingsError and UnicodeDecodeError.
    """
    try:
        descriptor = os.open(path, SETTINGS_FLAGS)
    except (FileNotFoundError, NotADirectoryError, PermissionError):
        return None
    except OSError as error:
        raise SettingsError(f"{path}: {error.strerror}; mend it, or move it away") from error
    with os.fdopen(descriptor, "rb") as stream:
        about = os.fstat(descriptor)
        if not stat.S_ISREG(about.st_mode):
            raise SettingsError(f"{path}: not a regular file; move it away")
        if os.geteuid() == ROOT and about.st_uid != ROOT:
            raise SettingsError(f"{path}: belongs to {_owner(about)}, not to root; move it away")
        data = stream.read(SETTINGS_MAX_BYTES + 1)
    if len(data) > SETTINGS_MAX_BYTES:
        raise SettingsError(f"{path}: is longer than {SETTINGS_MAX_BYTES >> 20} MiB; shorten it")
    return data.decode("utf-8")


def _make(name: str, mode: int, directory: int) -> None:
    try:
        os.mkdir(name, mode, dir_fd=directory)
    except FileExistsError:
        return


def _check(path: Path, about: os.stat_result) -> None:
    if stat.S_ISLNK(about.st_mode):
        raise Untrusted(f"{path} is a link")
    if not stat.S_ISDIR(about.st_mode):
        raise Untrusted(f"{path} is not a directory")
    if about.st_uid not in (ROOT, os.geteuid()):
        raise Untrusted(f"{path} belongs to {_owner(about)}")
    # in a directory like /tmp nobody can exchange what belongs to somebody else
    if about.st_mode & _others(about) and not about.st_mode & stat.S_ISVTX:
        raise Untrusted(f"{path} can be changed by others")


def _others(about: os.stat_result) -> int:
    return stat.S_IWOTH | (stat.S_IWGRP if about.st_gid != ROOT else 0)


def _owner(about: os.stat_result) -> str:
    try:
        return pwd.getpwuid(about.st_uid).pw_name
    except KeyError:
        return f"user {about.st_uid}"
