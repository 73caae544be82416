"""Switches autostart entries off and on in a person's own directory, with that person's rights.

What lies in a home is the person's: the administrator takes on their rights, so that no link that
they left there leads anywhere else. Nothing that was there is deleted.
"""

import pwd
import stat
from pathlib import Path

from dunmist.advice import OFF, OVERRIDE, OWN, Act, Target, override_name
from dunmist.computer import Root
from dunmist.errors import Refused
from dunmist.fixing.journal import JournalLine, Result
from dunmist.fixing.units import as_user

# directories of entries for all users (Desktop Application Autostart Specification)
SYSTEM_DIRECTORIES = ("/etc/xdg/autostart",)


def disable(act: Act, targets: list[Target], root: Root) -> Result:
    """Keep an autostart entry from starting anything."""
    del targets, root
    return Result(f"changed {disable_entry(act)}", True)


def undo_disable(line: JournalLine, root: Root) -> str:
    """Switch it on again; raises Refused."""
    del root
    return f"changed {enable_entry(line.act)}"


def disable_entry(act: Act) -> str:
    """Keep an autostart entry from starting anything; return the file that was changed."""
    file = _file(act)
    with as_user(act.user or ""):
        if _is_own(act):
            return _move(file, Path(f"{file}{OFF}"))
        override = _override(act)
        try:
            override.parent.mkdir(parents=True, exist_ok=True)
            with override.open("x", encoding="utf-8") as stream:
                stream.write(OVERRIDE)
        except FileExistsError as error:
            raise Refused(f"{override}: exists already; look at it, nothing was done") from error
        return str(override)


def enable_entry(act: Act) -> str:
    """Undo it; return the file that was changed."""
    file = _file(act)
    with as_user(act.user or ""):
        if _is_own(act):
            return _move(Path(f"{file}{OFF}"), file)
        override = _override(act)
        if not override.exists() or override.read_text(encoding="utf-8") != OVERRIDE:
            raise Refused(f"{override}: is not as it was left, so it stays; look at it")
        override.unlink()
        return str(override)


def _move(source: Path, target: Path) -> str:
    if target.exists():
        raise Refused(f"{target}: exists already; nothing was done")
    try:
        kind = source.lstat().st_mode
    except FileNotFoundError as error:
        raise Refused(f"{source}: is not there any more; nothing was done") from error
    if not stat.S_ISREG(kind):
        raise Refused(f"{source}: not a regular file; nothing was done, so look at it first")
    source.rename(target)
    return str(target)


def _file(act: Act) -> Path:
    """Return the entry's file; raises Refused unless it is just where entries are.

    The name comes from a capture: it leads nowhere else, through no link and no ``..``.
    """
    name = act.file or ""
    file = Path(name)
    home = Path(pwd.getpwnam(act.user or "").pw_dir)
    directories = (home / OWN, *(Path(directory) for directory in SYSTEM_DIRECTORIES))
    if str(file) != name or file.suffix != ".desktop" or file.parent not in directories:
        raise Refused(f"unknown autostart entry {name!r} of {act.user}; nothing was done")
    return file


def _is_own(act: Act) -> bool:
    return f"/{OWN}/" in (act.file or "")


def _override(act: Act) -> Path:
    return Path(pwd.getpwnam(act.user or "").pw_dir) / override_name(act.file or "")
