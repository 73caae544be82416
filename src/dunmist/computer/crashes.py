"""Read the records of kernel crashes: when each was, and why.

Sources: ``Documentation/admin-guide/ramoops.rst`` and ``pstore-blk.rst`` for ``/sys/fs/pstore``,
where firmware or memory keeps the last messages over a start; systemd-pstore(8), which moves them
below ``/var/lib/systemd/pstore``. The reason is the kernel's own line (``kernel/panic.c``).
"""

import re
from collections.abc import Iterator

import msgspec

from dunmist.computer.parsing import text_of
from dunmist.computer.root import Root

SUBJECT = "records of crashes"
KEPT, MOVED = "sys/fs/pstore", "var/lib/systemd/pstore"
# files assembled from several records, as dmesg.txt, add nothing and are of a later time
RECORD = "dmesg-"
# a record holds the end of the kernel's log, which is shorter
RECORD_MOST_BYTES = 256 << 10
# records, and how deep below the directory they are looked for
RECORDS_MOST, DEPTH_MOST = 100, 3
# one crash leaves several parts, which are written one after another
PARTS_WITHIN_S = 10.0
# the record with the newest lines begins with the reason for it (``fs/pstore/platform.c``)
HEAD = re.compile(rb"(Panic|Oops)#\d+ Part1\n")
# the beginning of a line: its level and its time
_LINE = rb"^(?:<\d+>)?(?:\[[ \d.]{1,20}\] )?"
# of each kind of record, the most telling reason first
REASONS = {
    b"Panic": (re.compile(_LINE + rb"Kernel panic - not syncing: ([^\n]{1,160})", re.M),),
    b"Oops": (
        re.compile(_LINE + rb"BUG: ((?:unable to handle|kernel NULL pointer)[^\n]{1,160})", re.M),
        re.compile(_LINE + rb"(watchdog: BUG: [^\n]{1,160})", re.M),
        re.compile(_LINE + rb"Oops: ([^\n]{1,160})", re.M),
    ),
}


class Crash(msgspec.Struct, frozen=True, omit_defaults=True):
    """A crash at ``at_s`` since 1970, and what the kernel gave as its reason."""

    at_s: float
    reason: str | None = None


def read_crashes(root: Root) -> list[Crash]:
    """Return the crashes that are on record, the oldest first."""
    files = [*_records(root, KEPT, 1), *_records(root, MOVED, DEPTH_MOST)][:RECORDS_MOST]
    crashes: list[Crash] = []
    for at_s, name in sorted((root.changed_s(name) or 0.0, name) for name in files):
        data = root.parse(name, bytes, SUBJECT, most_bytes=RECORD_MOST_BYTES) or b""
        reason = _reason(data)
        if crashes and at_s - crashes[-1].at_s <= PARTS_WITHIN_S:
            crashes[-1] = Crash(crashes[-1].at_s, crashes[-1].reason or reason)
        else:
            crashes.append(Crash(at_s, reason))
    return crashes


def _records(root: Root, directory: str, depth: int) -> Iterator[str]:
    for name in root.names(directory):
        path = f"{directory}/{name}"
        if name.startswith(RECORD):
            yield path
        elif depth > 1:
            yield from _records(root, path, depth - 1)


def _reason(data: bytes) -> str | None:
    """Return the reason of a crash by the last such line, the one that the record was written for.

    A name of a file or program may hold a line end and look like one that came before.
    """
    head = HEAD.match(data)
    for pattern in REASONS[head[1]] if head else ():
        if matches := pattern.findall(data):
            return text_of(matches[-1]).strip()
    return None
