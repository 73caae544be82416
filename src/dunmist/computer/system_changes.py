"""What changed on this computer lately: packages, and files that say what runs and how.

Sources: the logs of ``package_log``; times of files (stat(2)); dpkg's list of configuration files
with their digests (``/var/lib/dpkg/status``, deb-conffiles(5)), which tells whether a package or a
hand changed one. Only times are read, and of a changed configuration file its digest.
"""

import hashlib
import re
import time
from collections.abc import Iterable, Iterator
from datetime import tzinfo
from typing import Literal, NamedTuple

import msgspec

from dunmist.computer.package_log import read_package_log
from dunmist.computer.parsing import text_of
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
]
# who left a file as it is: its package, somebody by hand, or no package has it
Changer = Literal["package", "hand", "nobody's"]
# what lies longer ago did not begin lately
DAYS_MOST, DAY_S = 90, 86_400.0
# of those, the newest; the first installation alone has thousands
CHANGES_MOST, NAMES_MOST = 400, 500
TOOK_MOST_S = 0.3
CONFIGURATION_MOST_BYTES = 1 << 20
DPKG_STATUS = "var/lib/dpkg/status"
_CONFIGURATION = re.compile(rb"^ (/\S{1,4096}) ([0-9a-f]{32})$", re.M)
UNITS = (".service", ".timer", ".socket", ".path", ".mount", ".target", ".slice")


class Place(NamedTuple):
    """A directory or file to look at: what a change there is, and which names count."""

    path: str
    kind: ChangeKind
    ends: tuple[str, ...] = ("",)


PLACES = (
    Place("etc/systemd/system", "unit", UNITS),
    Place("etc/systemd/user", "unit", UNITS),
    Place("usr/local/lib/systemd/system", "unit", UNITS),
    Place("etc/xdg/autostart", "start-entry", (".desktop",)),
    Place("etc/cron.d", "job"),
    Place("etc/cron.hourly", "job"),
    Place("etc/cron.daily", "job"),
    Place("etc/cron.weekly", "job"),
    Place("etc/crontab", "job"),
    Place("var/spool/cron/crontabs", "job"),
    Place("var/spool/cron", "job"),
    Place("etc/sysctl.conf", "kernel-setting"),
    Place("etc/sysctl.d", "kernel-setting", (".conf",)),
    Place("etc/modprobe.d", "module-setting", (".conf",)),
    Place("etc/modules-load.d", "module-setting", (".conf",)),
    Place("etc/udev/rules.d", "device-rule", (".rules",)),
    Place("var/lib/snapd/snaps", "program", (".snap",)),
    Place("var/lib/flatpak/app", "program"),
    Place("etc/fstab", "mounts"),
    Place("etc/environment", "environment"),
    Place("etc/profile.d", "environment", (".sh",)),
    Place("etc/passwd", "accounts"),
    Place("etc/group", "accounts"),
    Place("boot", "kernel", ("",)),
)
KERNEL_IMAGE = re.compile(r"(?:vmlinu[xz]|Image)-")


class Change(msgspec.Struct, frozen=True, omit_defaults=True):
    """One thing that changed; versions are those of a package."""

    at_s: float  # since 1970
    kind: ChangeKind
    what: str  # package, or path
    old: str | None = None
    new: str | None = None
    by: str | None = None  # user or command that had the package manager do it
    left_by: Changer | None = None  # of a file: who left it as it is; None where nothing tells
    log: str | None = None  # the file that says so, None where the time of a file does


def read_changes(
    root: Root, now_s: float, zone: tzinfo | None, files: Iterable[tuple[str, ChangeKind]] = ()
) -> list[Change]:
    """Return what changed in the last ``DAYS_MOST`` days, the newest first.

    ``files`` are further ones to look at, as absolute paths. Moments that have not come yet are
    left out and counted as a blind spot.
    """
    until_s = time.monotonic() + TOOK_MOST_S
    changes = [
        Change(
            change.at_s,
            change.act,
            change.package,
            change.old,
            change.new,
            change.by,
            log=change.log,
        )
        for change in read_package_log(root, zone)
    ]
    digests: dict[bytes, bytes] | None = None
    for name, kind in _candidates(root, files):
        if time.monotonic() > until_s:
            root.note(SUBJECT, "too-many")
            break
        at_s = root.changed_s(name)
        if at_s is None or not 0.0 <= now_s - at_s <= DAYS_MOST * DAY_S:
            continue
        if digests is None:
            digests = _configuration(root)
        changes.append(Change(at_s, kind, f"/{name}", left_by=_left_by(root, name, digests)))
    to_come = [change for change in changes if change.at_s > now_s + DAY_S]
    if to_come:
        root.note(SUBJECT, "garbled")
    recent = [change for change in changes if now_s - DAYS_MOST * DAY_S <= change.at_s <= now_s]
    return sorted(recent, key=lambda change: -change.at_s)[:CHANGES_MOST]


def _candidates(
    root: Root, files: Iterable[tuple[str, ChangeKind]]
) -> Iterator[tuple[str, ChangeKind]]:
    """Yield each file to look at once."""
    seen = set[str]()
    for path, kind in files:
        if path.startswith("/") and path not in seen:
            seen.add(path)
            yield path.lstrip("/"), kind
    for place in PLACES:
        names = root.names(place.path)[:NAMES_MOST]
        for name in [f"{place.path}/{name}" for name in names] or [place.path]:
            if place.kind == "kernel" and not KERNEL_IMAGE.match(name.rpartition("/")[2]):
                continue
            if name.endswith(place.ends) and f"/{name}" not in seen:
                seen.add(f"/{name}")
                yield name, place.kind


def _configuration(root: Root) -> dict[bytes, bytes]:
    """Return the digest of each configuration file as its package left it; empty without dpkg."""
    found = root.parse(DPKG_STATUS, _CONFIGURATION.findall, SUBJECT, may_be_absent=True)
    return dict(found or ())


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
    # dpkg records it so; it protects nothing here
    same = hashlib.md5(data, usedforsecurity=False).hexdigest() == text_of(digest)
    return "package" if same else "hand"
