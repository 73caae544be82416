"""Parse the logs of package managers: installed, upgraded and removed packages.

Sources: dpkg(1) (``/var/log/dpkg.log``) and apt's ``/var/log/apt/history.log``, pacman's
``/var/log/pacman.log``, dnf's ``/var/log/dnf.rpm.log`` and ``/var/log/zypp/history``, with those
that logrotate(8) put aside. Their last part is read, within bounds. A line in another form is
passed over: logs of other languages have the same words, but a last line may be half written.
"""

import re
import zlib
from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime, tzinfo
from itertools import pairwise
from typing import Literal, NamedTuple

from dunmist.computer.parsing import ParseError, text_of
from dunmist.computer.root import Root, reason_of

SUBJECT = "changes of packages"
# some thousand lines of one log; a month of a computer in use has a few hundred
LOG_MOST_BYTES = 2 << 20
# names of older parts by logrotate(8), the oldest first; a monthly log reaches back three months
ROTATED = (".3.gz", ".2.gz", ".1.gz", ".1", "")
# a packed part, and what it may unpack to
PACKED_MOST_BYTES, UNPACKED_MOST_BYTES = 1 << 20, 16 << 20
GZIP = 16 + zlib.MAX_WBITS
# a log in local time goes back by an hour in autumn
BACK_LEAST_S = 2 * 3600.0
PackageAct = Literal["installed", "upgraded", "removed"]
# words of a line are bounded, so that no line takes long to match
_DPKG = re.compile(
    rb"^(\d{4}-\d\d-\d\d \d\d:\d\d:\d\d) (install|upgrade|remove|purge) "
    rb"([^\s:]{1,200})(?::\S{1,40})? (\S{1,200}) (\S{1,200})$",
    re.M,
)
_DPKG_ACTS: dict[bytes, PackageAct] = {
    b"install": "installed",
    b"upgrade": "upgraded",
    b"remove": "removed",
    b"purge": "removed",
}
_APT_FIELD = re.compile(rb"^(Start-Date|End-Date|Requested-By|Commandline): (.{1,400})", re.M)
_PACMAN = re.compile(
    rb"^\[([^\]\n]{10,32})\] \[ALPM\] (installed|upgraded|downgraded|removed) (\S{1,200}) "
    rb"\(([^)\s]{1,200})(?: -> ([^)\s]{1,200}))?\)$",
    re.M,
)
_DNF = re.compile(
    rb"^(\S{19,30}) \w{1,20} (Installed|Upgrade|Upgraded|Erase|Removed): "
    rb"(\S{1,200})-([^-\s]{1,100}-[^-\s]{1,100})\.\w{1,20}$",
    re.M,
)
_ZYPP = re.compile(
    rb"^(\d{4}-\d\d-\d\d \d\d:\d\d:\d\d)\|(install|remove) {0,4}\|"
    rb"([^|\n]{1,200})\|([^|\n]{1,200})\|",
    re.M,
)
NOTHING = "<none>"


class PackageChange(NamedTuple):
    """One package that was changed, with its versions before and after, and who asked for it."""

    at_s: float
    act: PackageAct
    package: str
    old: str | None = None
    new: str | None = None
    by: str | None = None
    log: str = ""  # the file that says so


class ClockStep(NamedTuple):
    """A later line with an earlier timestamp: the clock was set back, or had been wrong."""

    at_s: float  # the later line's timestamp
    back_s: float
    log: str


class PackageLog(NamedTuple):
    """Contents of all logs, in the order of the logs."""

    changes: list[PackageChange]
    clock_steps: list[ClockStep]


def read_package_log(root: Root, zone: tzinfo | None) -> PackageLog:
    """Return the changes in the logs of the package managers.

    ``zone`` is that of logs that name none, None for that of this computer.
    """
    changes: list[PackageChange] = []
    steps: list[ClockStep] = []
    for name, parser in LOGS:
        of_log = list(parser(_with_rotated(root, name), zone))
        steps += _clock_steps(of_log, f"/{name}")
        changes += [change._replace(log=f"/{name}") for change in of_log]
    orders = sorted(parse_apt_history(_with_rotated(root, APT_HISTORY), zone))
    return PackageLog([_with_order(change, orders) for change in changes], steps)


def _with_rotated(root: Root, name: str) -> bytes:
    return b"".join(_tail(root, f"{name}{end}") for end in ROTATED)


def _tail(root: Root, name: str) -> bytes:
    try:
        if name.endswith(".gz"):
            return _unpacked_end(root.read_start(name, PACKED_MOST_BYTES))
        return root.read_end(name, LOG_MOST_BYTES)
    except (FileNotFoundError, NotADirectoryError):
        return b""
    except OSError as error:
        root.note(SUBJECT, reason_of(error), name)
    except zlib.error:
        root.note(SUBJECT, "garbled", name)
    return b""


def _unpacked_end(packed: bytes) -> bytes:
    """Return the end of what was packed; raises zlib.error."""
    unpacking = zlib.decompressobj(GZIP)
    end, unpacked_bytes = b"", 0
    while packed and unpacked_bytes < UNPACKED_MOST_BYTES:
        part = unpacking.decompress(packed, LOG_MOST_BYTES)
        packed = unpacking.unconsumed_tail
        unpacked_bytes += len(part)
        end = (end + part)[-LOG_MOST_BYTES:]
    return end


def _clock_steps(changes: Sequence[PackageChange], log: str) -> Iterator[ClockStep]:
    for before, after in pairwise(changes):
        if before.at_s - after.at_s >= BACK_LEAST_S:
            yield ClockStep(after.at_s, before.at_s - after.at_s, log)


def _with_order(change: PackageChange, orders: list[tuple[float, float, str]]) -> PackageChange:
    """Return a change with who ordered the run of apt that it belongs to."""
    index = bisect_right(orders, change.at_s, key=lambda order: order[0]) - 1
    if index < 0 or orders[index][1] < change.at_s or not orders[index][2]:
        return change
    return change._replace(by=orders[index][2])


def timestamp_of(text: bytes, zone: tzinfo | None) -> float:
    """Return the seconds since 1970 of a timestamp as logs write it; raises ParseError."""
    try:
        at = datetime.fromisoformat(" ".join(text.decode("ascii").split()))
        return (at if at.tzinfo or zone is None else at.replace(tzinfo=zone)).timestamp()
    except (ValueError, OverflowError, OSError) as error:
        raise ParseError("a log of packages", "expected a timestamp", text) from error


def _changes(
    matches: "Iterator[re.Match[bytes]]",
    zone: tzinfo | None,
    made: "Callable[[float, re.Match[bytes]], PackageChange]",
) -> Iterator[PackageChange]:
    for match in matches:
        try:
            yield made(timestamp_of(match[1], zone), match)
        except ParseError:
            continue  # a time that no clock shows


def parse_dpkg_log(data: bytes, zone: tzinfo | None) -> Iterator[PackageChange]:
    """Yield the changes in a log of dpkg."""

    def made(at_s: float, match: "re.Match[bytes]") -> PackageChange:
        old, new = text_of(match[4]), text_of(match[5])
        return PackageChange(
            at_s,
            _DPKG_ACTS[match[2]],
            text_of(match[3]),
            None if old == NOTHING else old,
            None if new == NOTHING else new,
        )

    return _changes(_DPKG.finditer(data), zone, made)


def parse_apt_history(data: bytes, zone: tzinfo | None) -> Iterator[tuple[float, float, str]]:
    """Yield begin and end of each run of apt with who asked for it: a user, or a command."""
    words: dict[bytes, bytes] = {}
    for field, value in _APT_FIELD.findall(data):
        # a run begins with its begin and closes with its end
        words = {field: value} if field == b"Start-Date" else words | {field: value}
        if field != b"End-Date":
            continue
        user = words.get(b"Requested-By", b"").partition(b" ")[0]
        command = words.get(b"Commandline", b"").split()[:1]
        by = text_of(user) or (text_of(command[0]).rpartition("/")[2] if command else "")
        try:
            begin, end = (timestamp_of(words[name], zone) for name in (b"Start-Date", b"End-Date"))
        except (KeyError, ParseError):
            continue  # its begin is cut off, or no time that a clock shows
        yield begin, end, by


def parse_pacman_log(data: bytes, zone: tzinfo | None) -> Iterator[PackageChange]:
    """Yield the changes in a log of pacman; a downgrade is an upgrade with its versions."""

    def made(at_s: float, match: "re.Match[bytes]") -> PackageChange:
        first, second = text_of(match[4]), text_of(match[5] or b"") or None
        if match[2] == b"installed":
            return PackageChange(at_s, "installed", text_of(match[3]), None, first)
        if match[2] == b"removed":
            return PackageChange(at_s, "removed", text_of(match[3]), first)
        return PackageChange(at_s, "upgraded", text_of(match[3]), first, second)

    return _changes(_PACMAN.finditer(data), zone, made)


def parse_dnf_log(data: bytes, zone: tzinfo | None) -> Iterator[PackageChange]:
    """Yield the changes in a log of dnf, which names the old version of an upgrade afterwards."""
    waiting: dict[bytes, PackageChange] = {}
    for match in _DNF.finditer(data):
        name, version = match[3], text_of(match[4])
        try:
            at_s = timestamp_of(match[1], zone)
        except ParseError:
            continue
        if match[2] == b"Upgrade":
            waiting[name] = PackageChange(at_s, "upgraded", text_of(name), None, version)
        elif match[2] == b"Upgraded" and name in waiting:
            yield waiting.pop(name)._replace(old=version)
        elif match[2] == b"Installed":
            yield PackageChange(at_s, "installed", text_of(name), None, version)
        elif match[2] != b"Upgraded":
            yield PackageChange(at_s, "removed", text_of(name), version)
    yield from waiting.values()


def parse_zypp_history(data: bytes, zone: tzinfo | None) -> Iterator[PackageChange]:
    """Yield the changes in a history of zypper, in which an upgrade is an installation."""

    def made(at_s: float, match: "re.Match[bytes]") -> PackageChange:
        name, version = text_of(match[3]), text_of(match[4])
        if match[2] == b"install":
            return PackageChange(at_s, "installed", name, None, version)
        return PackageChange(at_s, "removed", name, version)

    return _changes(_ZYPP.finditer(data), zone, made)


APT_HISTORY = "var/log/apt/history.log"
LOGS = (
    ("var/log/dpkg.log", parse_dpkg_log),
    ("var/log/pacman.log", parse_pacman_log),
    ("var/log/dnf.rpm.log", parse_dnf_log),
    ("var/log/zypp/history", parse_zypp_history),
)
