"""Parse the health of drives: NVMe log, ATA self-assessment, attributes, statistics.

Sources: NVM Express base specification (SMART / Health Information log), ACS-3 (SMART READ DATA,
device statistics log). What attribute numbers of ATA mean is each maker's own; those that are read
here mean the same on all drives that have them. ``drive_probe`` asks, as administrator only. Serial
numbers are not read.
"""

import os
import re
import struct
from collections.abc import Iterator, Mapping
from pathlib import Path

import msgspec

from dunmist.computer.deadlined_processes import DeadlinedProcesses
from dunmist.computer.disks import Disk
from dunmist.computer.parsing import Counter, ParseError, parse_text
from dunmist.computer.root import Root

SUBJECT = "health of drives"
ASK = str(Path(__file__).with_name("drive_probe.py"))
ASKED = re.compile(r"(?:nvme\d+n\d+|sd[a-z]+)\Z")
# vendor of all ATA drives in the kernel (drivers/ata/libata-scsi.c)
ATA_VENDOR = "ATA"
# one sector, the unit of all ATA logs (ACS-3)
PAGE_BYTES = 512
# NVMe drives give whole kelvin (NVM Express 1.4, SMART / Health Information)
KELVIN_OF_ZERO = 273
# bits of the critical warning, by what each warns of
NVME_WARNINGS = (
    "spare is used up",
    "too hot",
    "reliability is degraded",
    "read only now",
    "backup of the cache failed",
    "persistent memory is read only",
)
# layout of the SMART data page of ATA drives
ATTRIBUTES, ATTRIBUTE_BYTES, FIRST_ATTRIBUTE = 30, 12, 2
# number of an attribute of ATA, and the field that it fills
ATA_FIELDS = {
    5: "reallocated",
    9: "hours",
    194: "celsius",
    197: "pending",
    198: "uncorrectable",
    199: "interface_errors",
}
# page and offset of a device statistic, and the field that it fills
STATISTICS = {
    (1, 16): "hours",
    (3, 32): "reallocated",
    (4, 8): "uncorrectable",
    (5, 8): "celsius",
    (6, 24): "interface_errors",
    (7, 8): "used_percent",
}
# flags of a figure in the Device Statistics log of ACS-3
SUPPORTED_AND_VALID = 0xC0
LOW_BYTE = ("celsius", "used_percent")
_WORD = re.compile(rb"^(nvme|ata|asleep|data|thresholds|statistics) ([0-9a-f]{1,8192})$", re.M)


class DriveHealth(msgspec.Struct, frozen=True, omit_defaults=True):
    """One drive by its own word; None is 'it does not say'."""

    disk: str
    asleep: bool = False  # it was not woken, so that nothing else is known
    fails: bool | None = None  # overall self-assessment (ATA SMART RETURN STATUS)
    warnings: list[str] = []  # bits of the critical warning byte (NVMe health log), in words
    below_threshold: list[int] = []  # attribute numbers whose value is at or below their threshold
    spare_percent: Counter | None = None  # available spare (NVMe)
    spare_least_percent: Counter | None = None  # threshold of the spare, set by the maker
    used_percent: Counter | None = None  # estimated life used; may pass 100
    media_errors: Counter | None = None  # unrecovered data integrity errors (NVMe)
    reallocated: Counter | None = None  # sectors moved elsewhere (attribute 5)
    pending: Counter | None = None  # sectors that wait to be moved (attribute 197)
    uncorrectable: Counter | None = None  # sectors that could not be read (attribute 198)
    # CRC errors between drive and controller (attribute 199): the cable
    interface_errors: Counter | None = None
    hours: Counter | None = None  # powered on
    celsius: int | None = None
    hot_minutes: Counter | None = None  # above the warning temperature (NVMe)


class AskedDrives:
    """Drives that are asked now and heard later, so that none that is silent holds anybody up."""

    def __init__(self, root: Root, disks: list[Disk]) -> None:
        names = [disk.name for disk in disks if ASKED.match(disk.name) and not disk.removable]
        self._root, self._names = root, names
        self._children: DeadlinedProcesses | None = None
        if root.is_this_computer and names:
            if os.geteuid():
                root.note(SUBJECT, "permission")
                self._names = []
            else:
                self._names = [name for name in names if may_be_asked(root, name)]
                for name in set(names) - set(self._names):
                    root.note(SUBJECT, "absent", name)
                self._children = DeadlinedProcesses({name: (ASK, name) for name in self._names})

    def health(self) -> list[DriveHealth]:
        """Return the answers of the drives."""
        root = self._root
        answers: Mapping[str, bytes | None] = (
            self._children.answers()
            if self._children
            else {name: _recorded(root, name) for name in self._names}
        )
        results = (_health(root, name, answers[name]) for name in self._names)
        return [health for health in results if health]

    def leave(self) -> None:
        """Wait for no answer."""
        if self._children:
            self._children.leave()


def may_be_asked(root: Root, name: str) -> bool:
    """Whether a drive knows such questions: bridges and other disks may stumble over them."""
    if name.startswith("nvme"):
        return True
    vendor = root.parse(f"sys/block/{name}/device/vendor", parse_text, SUBJECT, may_be_absent=True)
    return vendor == ATA_VENDOR


def _recorded(root: Root, name: str) -> bytes | None:
    # a copy cannot be asked; a model computer publishes what its drives would answer
    try:
        return root.read(f"health/{name}")
    except OSError:
        return b""


def _health(root: Root, name: str, answer: bytes | None) -> DriveHealth | None:
    if answer is None:
        root.note(SUBJECT, "failed", name)
        return None
    if not answer:
        root.note(SUBJECT, "absent", name)
        return None
    return root.parsed(answer, lambda data: parse_health(name, data), SUBJECT, name)


def parse_health(name: str, data: bytes) -> DriveHealth:
    """Return the health of a drive from what was written of it; raises ParseError."""
    words = {word.decode(): value for word, value in _WORD.findall(data)}
    if "asleep" in words:
        return DriveHealth(name, asleep=True)
    if "nvme" in words:
        return _nvme(name, _page(words["nvme"], 1))
    if "ata" not in words:
        raise ParseError(name, "expected what a drive says of itself", data)
    fields: dict[str, int] = {}
    below: list[int] = []
    if "data" in words:
        fields |= dict(_attributes(_page(words["data"], 1)))
    if "data" in words and "thresholds" in words:
        below = list(_too_low(_page(words["data"], 1), _page(words["thresholds"], 1)))
    if "statistics" in words:
        fields |= dict(_statistics(_page(words["statistics"], 8)))
    return DriveHealth(name, fails=words["ata"] == b"1", below_threshold=below, **fields)  # type: ignore[arg-type]


def _page(digits: bytes, pages: int) -> bytes:
    if len(digits) != 2 * pages * PAGE_BYTES:
        raise ParseError("drive", f"expected {pages * PAGE_BYTES} bytes", digits)
    return bytes.fromhex(digits.decode())


def _nvme(name: str, page: bytes) -> DriveHealth:
    warning, kelvin, spare, least, used = struct.unpack_from("<BHBBB", page)
    words = [text for bit, text in enumerate(NVME_WARNINGS) if warning >> bit & 1]

    def wide(offset: int) -> int:
        return min(int.from_bytes(page[offset : offset + 16], "little"), 2**63 - 1)

    return DriveHealth(
        name,
        warnings=words,
        spare_percent=spare,
        spare_least_percent=least,
        used_percent=used,
        media_errors=wide(160),
        hours=wide(128),
        celsius=kelvin - KELVIN_OF_ZERO if kelvin else None,
        hot_minutes=sum(struct.unpack_from("<II", page, 192)),
    )


def _rows(page: bytes) -> Iterator[tuple[int, bytes]]:
    for index in range(ATTRIBUTES):
        start = FIRST_ATTRIBUTE + index * ATTRIBUTE_BYTES
        row = page[start : start + ATTRIBUTE_BYTES]
        if row[0]:
            yield row[0], row


def _attributes(page: bytes) -> Iterator[tuple[str, int]]:
    for number, row in _rows(page):
        field = ATA_FIELDS.get(number)
        if field is not None:
            raw = int.from_bytes(row[5:11], "little")
            # the least and greatest temperature follow the newest; hours may hold minutes
            yield field, raw & (0xFF if field in LOW_BYTE else 0xFFFFFFFF)


def _too_low(page: bytes, thresholds: bytes) -> Iterator[int]:
    least = {number: row[1] for number, row in _rows(thresholds)}
    for number, row in _rows(page):
        # 0 is 'never fails'
        if least.get(number) and row[3] <= least[number]:
            yield number


def _statistics(pages: bytes) -> Iterator[tuple[str, int]]:
    for (page, offset), field in STATISTICS.items():
        start = page * PAGE_BYTES
        if pages[start + 2] != page:
            continue  # this page is not there
        value = pages[start + offset : start + offset + 8]
        if value[7] & SUPPORTED_AND_VALID == SUPPORTED_AND_VALID:
            yield field, value[0] if field in LOW_BYTE else int.from_bytes(value[:4], "little")
