"""Find recent changes of this computer: packages, and files that define what runs and how.

Sources: the logs of ``package_log`` and rpm's database; times of files (stat(2)); dpkg's list of
configuration files with their digests (``/var/lib/dpkg/status``, deb-conffiles(5)), which tells
whether a package or a hand changed one; the copies that shadow(5)'s programs keep of passwd(5) and
group(5); the date of the firmware's release (DSP0134 7.1). Only times are read, and of a changed
configuration file its digest.
"""

import re
import time
from collections.abc import Iterable, Iterator
from datetime import datetime, tzinfo
from typing import Literal, NamedTuple

import msgspec

from dunmist.computer.package_log import read_package_log
from dunmist.computer.packages import RPM
from dunmist.computer.parsing import parse_text, text_of
from dunmist.computer.root import Root, reason_of

SUBJECT = "what changed lately"
ChangeKind = Literal[
    "installed",
    "upgraded",
    "removed",
    "unit",
    "start-entry",
    "job",
    "kernel-setting",
    "module-setting",
    "device-rule",
    "mounts",
    "environment",
    "accounts",
    "program",
    "kernel",
    "firmware",
    "clock",
]
# origin of a file's content: its package, a change by hand, or no package
Changer = Literal["package", "hand", "nobody's"]
# older changes did not start trouble of today
DAYS_MOST, DAY_S = 90, 86_400.0
# a log and a database differ by less about the same run
SAME_RUN_S = 3600.0
# of those, the newest; the first installation alone has thousands
CHANGES_MOST, NAMES_MOST = 400, 500
TOOK_MOST_S = 0.3
CONFIGURATION_MOST_BYTES = 1 << 20
DPKG_STATUS = "var/lib/dpkg/status"
_CONFIGURATION = re.compile(rb"^ (/\S{1,4096}) ([0-9a-f]{32})$", re.M)
# names of accounts that are kept
ACCOUNTS_MOST = 5
UNITS = (".service", ".timer", ".socket", ".path", ".mount", ".target", ".slice")


class WatchedPath(NamedTuple):
    """A watched directory or file: the kind of a change there, and the endings of its names."""

    path: str
    kind: ChangeKind
    ends: tuple[str, ...] = ("",)


WATCHED_PATHS = (
    WatchedPath("etc/systemd/system", "unit", UNITS),
    WatchedPath("etc/systemd/user", "unit", UNITS),
    WatchedPath("usr/local/lib/systemd/system", "unit", UNITS),
    WatchedPath("etc/xdg/autostart", "start-entry", (".desktop",)),
    WatchedPath("etc/cron.d", "job"),
    WatchedPath("etc/cron.hourly", "job"),
    WatchedPath("etc/cron.daily", "job"),
    WatchedPath("etc/cron.weekly", "job"),
    WatchedPath("etc/crontab", "job"),
    WatchedPath("var/spool/cron/crontabs", "job"),
    WatchedPath("var/spool/cron", "job"),
    WatchedPath("etc/sysctl.conf", "kernel-setting"),
    WatchedPath("etc/sysctl.d", "kernel-setting", (".conf",)),
    WatchedPath("etc/modprobe.d", "module-setting", (".conf",)),
    WatchedPath("etc/modules-load.d", "module-setting", (".conf",)),
    WatchedPath("etc/udev/rules.d", "device-rule", (".rules",)),
    WatchedPath("var/lib/snapd/snaps", "program", (".snap",)),
    WatchedPath("var/lib/flatpak/app", "program"),
    WatchedPath("etc/fstab", "mounts"),
    WatchedPath("etc/environment", "environment"),
    WatchedPath("etc/profile.d", "environment", (".sh",)),
    WatchedPath("etc/passwd", "accounts"),
    WatchedPath("etc/group", "accounts"),
    WatchedPath("boot", "kernel", ("",)),
)
KERNEL_IMAGE = re.compile(r"(?:vmlinu[xz]|Image)-")


class Change(msgspec.Struct, frozen=True, omit_defaults=True):
    """One thing that changed.

    ``old`` and ``new`` are versions of a package, or the accounts that went and came.
    """

    at_s: float  # since 1970
    kind: ChangeKind
    what: str  # package, or path
    old: str | None = None
    new: str | None = None
    by: str | None = None  # user or command that had the package manager do it
    left_by: Changer | None = None  # of a file: who left it as it is; None if nothing tells
    log: str | None = None  # the file that says so, None if the time of a file does
    back_s: float | None = None  # of the clock: by how much it went back


def is_watched_path(name: str) -> bool:
    """Whether a path below the root is one of the watched ones."""
    return any(
        name in (watched.path, f"{watched.path}/{name.rpartition('/')[2]}")
        for watched in WATCHED_PATHS
    )


def has_rpm(root: Root) -> bool:
    """Whether rpm's database is asked for what was installed."""
    return any(root.exists(name) for name in RPM)


def read_changes(
    root: Root, now_s: float, zone: tzinfo | None, files: Iterable[tuple[str, ChangeKind]] = ()
) -> list[Change]:
    """Return the changes of the last ``DAYS_MOST`` days, the newest first.

    ``files`` are further watched ones, as absolute paths. Times in the future are
    left out and counted as a blind spot.
    """
    since_s = now_s - DAYS_MOST * DAY_S
    logged = list(_logged(root, zone))
    changes = [*logged, *_installed(root, since_s, logged), *_firmware(root, zone)]
    changes += _of_files(root, since_s, files)
    for change in changes:
        if change.at_s > now_s:
            root.note(SUBJECT, "garbled", change.log or change.what)
    recent = [change for change in changes if since_s <= change.at_s <= now_s]
    return sorted(recent, key=lambda change: -change.at_s)[:CHANGES_MOST]


def _of_files(
    root: Root, since_s: float, files: Iterable[tuple[str, ChangeKind]]
) -> Iterator[Change]:
    """Yield the files that were changed since."""
    # of CPU time: on a computer that is busy with something else the files are no more
    until_s = time.thread_time() + TOOK_MOST_S
    digests: dict[bytes, bytes] | None = None
    for name, kind in _candidates(root, files):
        if time.thread_time() > until_s:
            root.note(SUBJECT, "too-many")
            break
        at_s = root.changed_s(name)
        if at_s is None or at_s < since_s:
            continue
        if digests is None:
            digests = _configuration(root)
        gone, came = _accounts(root, name) if kind == "accounts" else (None, None)
        left_by = _left_by(root, name, digests)
        yield Change(at_s, kind, f"/{name}", gone, came, left_by=left_by)


def _logged(root: Root, zone: tzinfo | None) -> Iterator[Change]:
    """Yield the changes in logs of package managers, and the times their clock went back."""
    log = read_package_log(root, zone)
    for done in log.changes:
        yield Change(done.at_s, done.act, done.package, done.old, done.new, done.by, log=done.log)
    for step in log.clock_steps:
        yield Change(step.at_s, "clock", step.log, log=step.log, back_s=step.back_s)


def _installed(root: Root, since_s: float, logged: list[Change]) -> Iterator[Change]:
    """Yield the changes of the last days that only rpm's database has."""
    database = next((name for name in RPM if root.exists(name)), None)
    if database is None:
        return
    # a computer without rpm does not load SQLite
    from dunmist.computer.rpm_database import ask_rpm, find_installed_since

    known = {change.what: change.at_s for change in logged}
    for at_s, name, version in ask_rpm(
        root, SUBJECT, lambda base: find_installed_since(base, since_s)
    ):
        if abs(known.get(name, 0.0) - at_s) > SAME_RUN_S:
            yield Change(at_s, "installed", name, None, version, log=f"/{database}")


def _firmware(root: Root, zone: tzinfo | None) -> Iterator[Change]:
    """Yield the release of the firmware, before which it cannot have been put in."""
    about = [
        root.parse(f"sys/class/dmi/id/{name}", parse_text, SUBJECT, may_be_absent=True)
        for name in ("bios_date", "bios_version")
    ]
    try:
        at = datetime.strptime(about[0] or "", "%m/%d/%Y").replace(tzinfo=zone)
        yield Change(at.timestamp(), "firmware", about[1] or "firmware", log="/sys/class/dmi/id")
    except (ValueError, OverflowError):
        return  # makers leave it out, or write another form


def _accounts(root: Root, name: str) -> tuple[str | None, str | None]:
    """Return the accounts that went and came since the copy that the programs of shadow keep."""
    both = [
        root.parse(file, _account_names, SUBJECT, may_be_absent=True) for file in (f"{name}-", name)
    ]
    before, now = both
    if before is None or now is None:
        return None, None
    gone, came = sorted(before - now)[:ACCOUNTS_MOST], sorted(now - before)[:ACCOUNTS_MOST]
    return " ".join(gone) or None, " ".join(came) or None


def _account_names(data: bytes) -> set[str]:
    return {text_of(line.partition(b":")[0]) for line in data.splitlines() if b":" in line}


def _candidates(
    root: Root, files: Iterable[tuple[str, ChangeKind]]
) -> Iterator[tuple[str, ChangeKind]]:
    """Yield each watched file once."""
    seen = set[str]()
    for path, kind in files:
        if path.startswith("/") and path not in seen:
            seen.add(path)
            yield path.lstrip("/"), kind
    for watched in WATCHED_PATHS:
        names = root.dated_names(watched.path)[:NAMES_MOST]
        for name in [f"{watched.path}/{name}" for name in names] or [watched.path]:
            if watched.kind == "kernel" and not KERNEL_IMAGE.match(name.rpartition("/")[2]):
                continue
            if name.endswith(watched.ends) and f"/{name}" not in seen:
                seen.add(f"/{name}")
                yield name, watched.kind


def _configuration(root: Root) -> dict[bytes, bytes]:
    """Return the digest of each configuration file as its package left it; empty without dpkg."""
    found: dict[bytes, bytes] = {}
    try:
        for piece in root.pieces(DPKG_STATUS, b"\n"):
            found.update(_CONFIGURATION.findall(piece))
    except OSError as error:
        if reason_of(error) != "absent":
            root.note(SUBJECT, reason_of(error), DPKG_STATUS)
    return found


def _left_by(root: Root, name: str, digests: dict[bytes, bytes]) -> Changer | None:
    if not digests or not name.startswith("etc/"):
        return None
    digest = digests.get(f"/{name}".encode(errors="surrogateescape"))
    if digest is None:
        return "nobody's"
    try:
        data = root.read_start(name, CONFIGURATION_MOST_BYTES)
    except OSError as error:
        root.note(SUBJECT, reason_of(error), name)
        return None
    # few files come this far, and loading it takes as long as reading a hundred of them
    import hashlib

    # dpkg records it so; it protects nothing here
    same = hashlib.md5(data, usedforsecurity=False).hexdigest() == text_of(digest)
    return "package" if same else "hand"
