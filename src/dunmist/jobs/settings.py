"""Where a user's own settings are."""

import os
import pwd
import stat
from pathlib import Path

JOURNAL = "acts.jsonl"

ADMINISTRATOR = 0


def settings_directory() -> Path:
    """Return where a user's settings are looked for."""
    import platformdirs

    return Path(platformdirs.user_config_dir("dunmist"))


def watch_directory() -> Path:
    """Return where the flight recorder keeps what it has; of whoever runs this, as the journal."""
    return journal_path().parent / "watch"


def incidents_directory() -> Path:
    """Return where the recorder keeps incidents, apart from its ring."""
    return watch_directory() / "incidents"


def plans_directory() -> Path:
    """Return where planned collections are put."""
    return journal_path().parent / "planned"


def mark_sockets() -> list[Path]:
    """Return where a recorder may listen for marks, the nearest first.

    One of the administrator listens where everybody reaches it; systemd names the place.
    """
    given = os.environ.get("RUNTIME_DIRECTORY")
    own = os.environ.get("XDG_RUNTIME_DIR")
    places = [Path(given)] if given else []
    places += [Path(own) / "dunmist"] if own else []
    return [place / "marks.sock" for place in (*places, Path("/run/dunmist"))]


def journal_path() -> Path:
    """Return where acts are written down: in the state of who runs this, and of nobody else.

    With sudo(8) the environment may be that of the person who called it. What the administrator
    trusts later does not lie where that person can change it.
    """
    import platformdirs

    place = Path(platformdirs.user_state_dir("dunmist"))
    if os.geteuid() == ADMINISTRATOR and not _is_administrators(place):
        place = Path(pwd.getpwuid(ADMINISTRATOR).pw_dir) / ".local/state/dunmist"
    return place / JOURNAL


def _is_administrators(place: Path) -> bool:
    """Whether what is there of a path belongs to the administrator alone."""
    there = next(part for part in (place, *place.parents) if part.exists())
    about = there.stat()
    return about.st_uid == ADMINISTRATOR and not about.st_mode & (stat.S_IWGRP | stat.S_IWOTH)
