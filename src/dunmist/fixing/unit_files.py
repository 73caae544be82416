"""Units of our own: the recorder as a service, and planned collections as timers.

Written into the administrator's directory or the person's own (systemd.unit(5)), switched on over
D-Bus like every act on a unit, and taken away again by undoing the act.
"""

import os
import re
import shlex
import sys
import tomllib
from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import NamedTuple

from dunmist.advice import Act, Target
from dunmist.computer import Root
from dunmist.errors import OutputError, Refused
from dunmist.fixing import units
from dunmist.fixing.journal import JournalLine, Result
from dunmist.output import write_whole
from dunmist.trusted_paths import ROOT, Untrusted, check_directory, who_can_change

SYSTEM, PERSONAL = Path("/etc/systemd/system"), Path(".config/systemd/user")
WATCH = "dunmist-watch"
NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,40}")
OURS = "# made by dunmist"
MODE = 0o644


class UnitFile(NamedTuple):
    """A unit file as it is or would be written."""

    path: Path
    text: str


class When(NamedTuple):
    """Due time of a planned collection."""

    at: datetime
    every_day: bool


@cache
def _templates() -> dict[str, dict[str, str]]:
    text = (files("dunmist.fixing") / "unit_files.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


def unit_directory(user: str | None) -> Path:
    """Return the directory of unit files: of a person, or of the system; raises Refused.

    The manager itself may use another one (SYSTEMD_UNIT_PATH, systemd.unit(5)).
    """
    if user is not None:
        return Path(f"~{user}").expanduser() / PERSONAL
    from_environment = os.environ.get("SYSTEMD_UNIT_PATH", "").partition(":")[0]
    directory = Path(from_environment) if from_environment else SYSTEM
    try:
        check_directory(directory)
    except Untrusted as error:
        raise Refused(f"{directory}: not used for system units, as {error}") from error
    return directory


def watch_unit(command: Sequence[str], user: str | None) -> list[UnitFile]:
    """Return the recorder's unit."""
    target = "multi-user.target" if user is None else "default.target"
    text = _templates()["watch"]["service"].format(command=_line(command), target=target)
    return [_unit_file(unit_directory(user) / f"{WATCH}.service", text)]


def plan_units(
    name: str, command: Sequence[str], folder: Path, when: When, user: str | None
) -> list[UnitFile]:
    """Return the service and the timer of a planned collection; raises Refused for a wrong name."""
    if not NAME.fullmatch(name):
        raise Refused(f"invalid plan name '{name}'; use small letters, digits and hyphens")
    day = "*-*-*" if when.every_day else f"{when.at:%Y-%m-%d}"
    words = {
        "name": name,
        "command": _line(command),
        "folder": _plain(str(folder)),
        "calendar": f"{day} {when.at:%H:%M:%S}",
    }
    stem = unit_directory(user) / f"dunmist-plan-{name}"
    return [
        _unit_file(stem.with_suffix(f".{kind}"), _templates()["plan"][kind].format(**words))
        for kind in ("service", "timer")
    ]


def _unit_file(path: Path, text: str) -> UnitFile:
    return UnitFile(Path(_plain(str(path), percent="%")), text.lstrip())


def check_program() -> None:
    """Raise Refused where somebody else could change what a unit would run as root."""
    if os.geteuid() != ROOT:
        return
    package = Path(__file__).parent.parent
    libraries = [Path(entry) for entry in sys.path if entry and Path(entry).is_dir()]
    entries = [path for entry in libraries for path in entry.iterdir()]
    paths = [Path(sys.executable), *libraries, *entries, *package.rglob("*")]
    for path in paths:
        if reason := who_can_change(path):
            raise Refused(
                f"{reason}, so root must not run it at every start; install dunmist where only "
                f"root can write"
            )


def install(act: Act, parts: Sequence[UnitFile]) -> Result:
    """Write unit files and switch the last of them on; raises Refused, and then leaves none."""
    check_program()
    written: list[Path] = []
    with units.as_user_of(act):
        for part in parts:
            if part.path.exists() and not _is_ours(part.path):
                raise Refused(f"{part.path}: is there already and not ours; move it away")
        try:
            for part in parts:
                part.path.parent.mkdir(parents=True, exist_ok=True)
                write_whole(part.path, part.text.encode(), force=True)
                part.path.chmod(MODE)
                written.append(part.path)
        except (OSError, OutputError) as error:
            _unlink(written)
            raise Refused(f"{parts[0].path.parent}: {error}; nothing was installed") from error
    try:
        return units.switch_on(act)
    except Refused:
        with units.as_user_of(act):
            _unlink(written)
        raise


def undo_install(line: JournalLine, root: Root) -> str:
    """Switch a unit of ours off and take its files away; raises Refused."""
    del root
    path = Path(line.act.file or "")
    text = units.switch_off(line.act)
    with units.as_user_of(line.act):
        parts = [path.with_suffix(ending) for ending in (".service", ".timer")]
        gone = [part for part in parts if part.exists() and _is_ours(part)]
        _unlink(gone)
    units.reload(line.act)
    return f"{text}; {', '.join(map(str, gone)) or 'no file'} taken away"


def check_files(act: Act, root: Root) -> list[Target]:
    """Raise Refused where no service manager can be asked; concerns no process."""
    del root
    units.check_manager(act)
    return []


def _is_ours(path: Path) -> bool:
    with suppress(OSError):
        descriptor = os.open(path, os.O_RDONLY | os.O_NOFOLLOW)
        with os.fdopen(descriptor, encoding="utf-8", errors="replace") as stream:
            return stream.readline().startswith(OURS)
    return False


def _unlink(paths: Sequence[Path]) -> None:
    for path in paths:
        path.unlink(missing_ok=True)


def _line(command: Sequence[str]) -> str:
    """Return a command as systemd.service(5) takes it; raises Refused."""
    return _plain(shlex.join(command)).replace("$", "$$")


def _plain(text: str, percent: str = "%%") -> str:
    """Return a text that stays one value of one line; raises Refused.

    A line end would begin another setting, and systemd unquotes backslashes.
    """
    if not text.isprintable() or "\\" in text:
        raise Refused(f"{text!r}: no unit can be made of that; use a path without such characters")
    return text.replace("%", percent)
