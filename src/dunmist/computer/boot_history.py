"""Earlier starts of this computer, and whether the run before each ended in order.

Sources: utmp(5) for the records of ``/var/log/wtmp``; a start is ``BOOT_TIME``, an orderly end is
written as ``RUN_LVL`` for the user ``shutdown`` (systemd-update-utmp(8), shutdown(8)). Both have
the kernel's release in place of a host.
"""

import msgspec

from dunmist.computer.root import Root, reason_of
from dunmist.computer.utmp import LoginRecord, parse_login_records

SUBJECT = "earlier starts"
RECORDS = "var/log/wtmp"
# of a file that grows for years the end is enough
RECORDS_MOST_BYTES = 384 * 4000
# three months with a start each day
STARTS_MOST = 100
# kinds of records, utmp(5)
BOOT_TIME, RUN_LEVEL, SHUTDOWN = 2, 1, "shutdown"
# a clock without a battery begins at its own beginning
PLAUSIBLE_FROM_S = 1_000_000_000


class ComputerStart(msgspec.Struct, frozen=True, omit_defaults=True):
    """A start at ``at_s`` since 1970; whether the run before it ended in order, None if unknown."""

    at_s: float
    after_order: bool | None
    kernel: str | None = None  # its release


def starts_of(records: list[LoginRecord]) -> list[ComputerStart]:
    """Return the starts among records in their order; of the first nothing before is known."""
    starts: list[ComputerStart] = []
    ended = False
    for record in records:
        if record.kind == RUN_LEVEL and record.user == SHUTDOWN:
            ended = True
        elif record.kind == BOOT_TIME and record.since_s >= PLAUSIBLE_FROM_S:
            after_order = ended if starts else None
            starts.append(ComputerStart(float(record.since_s), after_order, record.host or None))
            ended = False
    return starts[-STARTS_MOST:]


def read_starts(root: Root) -> list[ComputerStart]:
    """Return the newest starts that are on record."""
    try:
        data = root.read_end(RECORDS, RECORDS_MOST_BYTES)
    except OSError as error:
        root.note(SUBJECT, reason_of(error))
        return []
    records = root.parsed(data, parse_login_records, SUBJECT, RECORDS)
    return starts_of(records or [])
