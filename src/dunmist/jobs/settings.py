"""Choose the directories of settings and state.

The environment of an administrator may be another person's (su(1), sudo(8) with ``-E``). Root uses
only directories that nobody else can change, otherwise those below its own home. One line says so.
"""

import logging
import os
import pwd
import tomllib
from collections.abc import Callable
from functools import cache
from pathlib import Path

from dunmist.errors import SettingsError
from dunmist.trusted_paths import ROOT, Untrusted, check_directory, read_settings

JOURNAL, THRESHOLDS, SETTINGS = "acts.jsonl", "thresholds.toml", "settings.toml"
SYSTEM_RUNTIME = Path("/run/dunmist")
_LOG = logging.getLogger(__name__)


def settings_directory() -> Path:
    """Return the directory of a user's settings."""
    import platformdirs

    return _trusted("settings", platformdirs.user_config_dir, ".config/dunmist")


def thresholds_path() -> Path:
    """Return the file of thresholds that a user has changed."""
    return settings_directory() / THRESHOLDS


def state_directory() -> Path:
    """Return the state directory of the current user."""
    import platformdirs

    return _trusted("state", platformdirs.user_state_dir, ".local/state/dunmist")


def journal_path() -> Path:
    """Return the path of the journal of acts."""
    return state_directory() / JOURNAL


def history_path() -> Path:
    """Return the path of this computer's history."""
    return state_directory() / "history.sqlite3"


def keeps_history() -> bool:
    """Whether a history may be kept: unless ``history = false`` in the settings.

    Raises SettingsError.
    """
    path = settings_directory() / SETTINGS
    try:
        value = tomllib.loads(read_settings(path) or "").get("history", True)
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise SettingsError(f"{path}: {error}; mend it, or move it away") from error
    if not isinstance(value, bool):
        raise SettingsError(f"{path}: history is {value!r}; write true or false")
    return value


def watch_directory() -> Path:
    """Return the directory of the flight recorder."""
    return state_directory() / "watch"


def incidents_directory() -> Path:
    """Return the directory of incidents, apart from the ring."""
    return watch_directory() / "incidents"


def plans_directory() -> Path:
    """Return the directory of planned collections."""
    return state_directory() / "planned"


def mark_directories() -> list[Path]:
    """Return the directories in which a recorder may listen for marks, the nearest first.

    Root's recorder listens where everybody reaches it, whatever the environment says.
    """
    if os.geteuid() == ROOT:
        return [SYSTEM_RUNTIME]
    given = os.environ.get("RUNTIME_DIRECTORY", "").partition(":")[0]
    own = os.environ.get("XDG_RUNTIME_DIR")
    directories = [Path(given)] if given else []
    directories += [Path(own) / "dunmist"] if own else []
    return [*directories, SYSTEM_RUNTIME]


def _trusted(what: str, directory_of: Callable[[str], str], below_home: str) -> Path:
    """Return the directory that the environment names, or root's own where that is not safe."""
    path = Path(directory_of("dunmist"))
    if os.geteuid() != ROOT:
        return path
    try:
        check_directory(path)
    except Untrusted as error:
        # the home of the password database, whose links only root can have made
        own = Path(os.path.realpath(pwd.getpwuid(ROOT).pw_dir)) / below_home
        _say_once(f"{path}: not used for {what} by root, as {error}; {own} is used instead")
        return own
    return path


@cache
def _say_once(text: str) -> None:
    _LOG.warning(text)
