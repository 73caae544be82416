"""Read desktop entries and cron jobs that start by themselves.

Sources: freedesktop.org's Desktop Application Autostart Specification and Desktop Entry
Specification, crontab(5). A user's entry of the same file name takes the place of the system's;
``Hidden=true`` in it switches the entry off.
"""

import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Literal, NamedTuple, TypeVar

import msgspec

from dunmist.computer.parsing import text_of
from dunmist.computer.root import Root, reason_of

SUBJECT = "autostart entries"
JOBS = "cron jobs"
SYSTEM_ENTRIES = "etc/xdg/autostart"
# a person may put as much as they like into a home or a table of jobs
ENTRIES_MOST = 300
# room for translations into all languages
ENTRY_MOST_BYTES = 64 << 10
# room for some thousand lines
TABLE_MOST_BYTES = 256 << 10
# more are somebody's attempt to fill the capture
JOBS_MOST = 500
# cron's own limit is lower (MAX_COMMAND, cron.h)
COMMAND_MOST = 4096
PERIODIC = ("hourly", "daily", "weekly", "monthly")
PACKAGED = "etc/cron.d/"
USER_JOBS = ("var/spool/cron/crontabs", "var/spool/cron")
Entry = TypeVar("Entry")
_KEY = re.compile(
    rb"^(Name|Exec|Hidden|OnlyShowIn|X-GNOME-Autostart-enabled)\s*=\s*(.*?)\s*$", re.M
)
_ENTRY = re.compile(rb"^\[Desktop Entry\]\s*$(.*?)(?=^\[|\Z)", re.M | re.S)
_JOB = re.compile(rb"^\s*(@\w+|(?:[\d*/,\-A-Za-z]+\s+){4}[\d*/,\-A-Za-z]+)\s+(.+?)\s*$")
_SETTING = re.compile(rb"^\s*[A-Za-z_]\w*\s*=")


class StartEntry(msgspec.Struct, frozen=True, omit_defaults=True):
    """One thing that starts by itself."""

    kind: Literal["desktop", "cron"]
    name: str
    command: str
    when: str  # login, or the schedule as crontab(5) has it
    file: str
    user: str | None = None  # None for everybody
    enabled: bool = True  # false where the entry says Hidden or is disabled for this desktop


class Home(NamedTuple):
    """A person's name, home directory and numbers of user and group, from passwd(5)."""

    user: str
    directory: str
    uid: int
    gid: int


def parse_desktop_entry(data: bytes) -> dict[str, str]:
    """Return the keys that matter of a desktop entry, an empty dict when it is none."""
    entry = _ENTRY.search(data)
    if not entry:
        return {}
    return {
        text_of(key): text_of(value[:COMMAND_MOST])
        for key, value in reversed(_KEY.findall(entry[1]))
    }


def parse_crontab(data: bytes, *, names_user: bool) -> Iterator[tuple[str, str | None, str]]:
    """Yield schedule, user and command of each job; the system's own tables name the user."""
    for line in data.splitlines():
        match = _JOB.match(line)
        if line.lstrip().startswith(b"#") or _SETTING.match(line) or not match:
            continue
        schedule, rest = b" ".join(match[1].split()), match[2]
        user = None
        if names_user:
            who, *more = rest.split(None, 1)
            user, rest = text_of(who), b"".join(more)
        if rest:
            yield text_of(schedule), user, text_of(rest[:COMMAND_MOST])


def read_autostart(root: Root, homes: list[Home]) -> list[StartEntry]:
    """Return the desktop entries of the system and of each home, and all cron jobs."""
    return [*_desktop_entries(root, homes), *_jobs(root)]


def _desktop_entries(root: Root, homes: list[Home]) -> Iterator[StartEntry]:
    for name in _entry_files(root, SYSTEM_ENTRIES):
        yield from _desktop_entry(root, f"{SYSTEM_ENTRIES}/{name}", None)
    for home in homes:
        directory = f"{home.directory.strip('/')}/.config/autostart"
        # links in a home directory reveal no file that its owner may not read
        with rights_of(home, root):
            entries = [
                entry
                for name in _entry_files(root, directory)
                for entry in _desktop_entry(root, f"{directory}/{name}", home.user)
            ]
        yield from entries


@contextmanager
def rights_of(home: Home, root: Root) -> Iterator[None]:
    """Read with the rights of a home's owner, where we have those of the administrator."""
    if not root.is_this_computer or os.geteuid() != 0 or home.uid == 0:
        yield
        return
    group, groups = os.getegid(), os.getgroups()
    os.setgroups([])
    os.setegid(home.gid)
    os.seteuid(home.uid)
    try:
        yield
    finally:
        os.seteuid(0)
        os.setegid(group)
        os.setgroups(groups)


def _entry_files(root: Root, directory: str) -> list[str]:
    files = [name for name in _listed(root, directory, SUBJECT) if name.endswith(".desktop")]
    return _no_more(root, SUBJECT, directory, files, ENTRIES_MOST)


def _no_more(
    root: Root, subject: str, directory: str, entries: list[Entry], most: int
) -> list[Entry]:
    if len(entries) > most:
        root.note(subject, "too-many", directory)
    return entries[:most]


def _desktop_entry(root: Root, path: str, user: str | None) -> Iterator[StartEntry]:
    keys = root.parse(path, parse_desktop_entry, SUBJECT, most_bytes=ENTRY_MOST_BYTES)
    if keys and (keys.get("Exec") or keys.get("Hidden")):
        off = "true" in keys.get("Hidden", "").lower()
        off = off or keys.get("X-GNOME-Autostart-enabled", "").lower() == "false"
        yield StartEntry(
            kind="desktop",
            name=keys.get("Name") or path.rpartition("/")[2].removesuffix(".desktop"),
            command=keys.get("Exec", ""),
            when="login",
            file=f"/{path}",
            user=user,
            enabled=not off,
        )


def _jobs(root: Root) -> Iterator[StartEntry]:
    tables = [("etc/crontab", True)]
    tables += [(f"{PACKAGED}{name}", True) for name in _listed(root, "etc/cron.d", JOBS)]
    for directory in USER_JOBS:
        tables += [
            (f"{directory}/{name}", False)
            for name in _listed(root, directory, JOBS)
            if name != "crontabs"
        ]
    for path, names_user in tables:
        data = root.parse(path, bytes, JOBS, may_be_absent=True, most_bytes=TABLE_MOST_BYTES) or b""
        owner = None if names_user else path.rpartition("/")[2]
        jobs = list(parse_crontab(data, names_user=names_user))
        for schedule, user, command in _no_more(root, JOBS, path, jobs, JOBS_MOST):
            # a job's first word is often a test whether to run at all; a package names its file
            name = path.removeprefix(PACKAGED) if path.startswith(PACKAGED) else None
            yield StartEntry(
                "cron", name or _program_of(command), command, schedule, f"/{path}", user or owner
            )
    for period in PERIODIC:
        for name in _listed(root, f"etc/cron.{period}", JOBS):
            if not name.startswith("."):
                path = f"/etc/cron.{period}/{name}"
                yield StartEntry("cron", name, path, f"@{period}", path, "root")


def _program_of(command: str) -> str:
    word = command.split(maxsplit=1)[0] if command.split() else command
    return word.rpartition("/")[2] or word


def _listed(root: Root, directory: str, subject: str) -> list[str]:
    try:
        return root.listed(directory)
    except OSError as error:
        if reason_of(error) != "absent":
            root.note(subject, reason_of(error), directory)
        return []
