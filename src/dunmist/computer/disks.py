"""Disks: what each moved and how long it took, and what kind of disk it is.

Sources: ``Documentation/admin-guide/iostats.rst`` and ``Documentation/ABI/stable/sysfs-block``. A
sector is always 512 bytes here, whatever the disk's own sectors are. A partition or a mapped device
(encryption, volumes, arrays) is counted a second time at the disk below it: ``disk_below`` says
which disks those are.
"""

import re
from functools import lru_cache

import msgspec

from dunmist.computer.parsing import (
    Counter,
    ParseError,
    counter_of,
    lines_of,
    parse_number,
    parse_text,
    text_of,
)
from dunmist.computer.root import Root

SUBJECT = "disks"
# the unit of /sys/block/*/stat, whatever the drive's own sector is
SECTOR_BYTES = 512
# more block devices are loops and maps of one disk
DEVICES_MOST = 256
# no disk behind them, or one that is counted below: see Documentation/admin-guide/devices.txt
PSEUDO = re.compile(r"(?:loop|ram|zram|fd|sr|nbd)\d")
# the place of a drive among the devices (sysfs, drivers/ata/libata-transport.c)
_ATA_PORT = re.compile(r"/(ata\d+)/")


class DiskSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Counters of one disk since it was attached, written when they changed."""

    name: str
    reads: Counter  # field 1 after the name (Documentation/admin-guide/iostats.rst)
    read_sectors: Counter  # field 3, in units of 512 bytes whatever the drive has
    read_ms: Counter  # field 4, summed over all requests
    writes: Counter  # field 5
    written_sectors: Counter  # field 7
    write_ms: Counter  # field 8
    in_flight: Counter  # field 9, a level and no counter
    busy_ms: Counter  # field 10, time with any request under way
    queued_ms: Counter  # field 11, grows by the requests under way each millisecond
    discards: Counter | None = None  # field 12, since Linux 4.18
    discard_ms: Counter | None = None  # field 15
    flushes: Counter | None = None  # field 16, since Linux 5.5
    flush_ms: Counter | None = None  # field 17


class Disk(msgspec.Struct, frozen=True, omit_defaults=True):
    """Facts of a block device; None is 'not published'."""

    name: str
    size_bytes: int | None = None
    spins: bool | None = None  # queue/rotational
    removable: bool | None = None  # the medium, not the drive
    model: str | None = None
    scheduler: str | None = None  # the chosen one of queue/scheduler
    queue_depth: int | None = None  # queue/nr_requests
    partitions: list[str] = []
    disks_below: list[str] = []  # slaves/: what holds a mapped device
    mapped_name: str | None = None  # dm/name
    device: str | None = None  # the drive or controller that sensors and messages name
    port: str | None = None  # its ATA link, as ata3.00


def parse_diskstats(data: bytes) -> list[DiskSample]:
    """Return the counters of every block device, partitions too; raises ParseError."""
    return [_parse_device(line) for line in lines_of(data)]


# most devices of a computer do nothing for most of the time, and have the line that they had
@lru_cache(maxsize=DEVICES_MOST)
def _parse_device(line: bytes) -> DiskSample:
    fields = line.split()
    if len(fields) < 14:
        raise ParseError("/proc/diskstats", "expected 14 or more fields", line)
    count = [counter_of(field, "/proc/diskstats", text_of(fields[2])) for field in fields[3:]]
    more: list[int | None] = [None, None, None, None]
    # discards came with Linux 4.18
    if len(count) >= 15:
        more[0:2] = [count[11], count[14]]
    # flushes came with Linux 5.5
    if len(count) >= 17:
        more[2:4] = [count[15], count[16]]
    return DiskSample(
        text_of(fields[2]),
        count[0],
        count[2],
        count[3],
        count[4],
        count[6],
        count[7],
        count[8],
        count[9],
        count[10],
        *more,
    )


def parse_scheduler(data: bytes) -> str:
    """Return the scheduler in use, which stands in brackets; raises ParseError."""
    match = re.search(rb"\[([\w-]+)\]", data)
    if match:
        return text_of(match[1])
    # older kernels write "none" without brackets
    word = data.strip()
    if not word or b" " in word:
        raise ParseError("queue/scheduler", "expected one in brackets", data)
    return text_of(word)


def read_disks(root: Root) -> list[Disk]:
    """Return every block device with something behind it, mapped devices too."""
    return [
        _read_disk(root, name)
        for name in root.names("sys/block")
        # a card reader without a card is there, with no sectors
        if not PSEUDO.match(name) and _size_bytes(root, name)
    ]


def is_disk(name: str) -> bool:
    """Whether a block device of ``/proc/diskstats`` may be a disk by its name."""
    return not PSEUDO.match(name)


def _size_bytes(root: Root, name: str) -> int | None:
    sectors = root.parse(f"sys/block/{name}/size", parse_number, SUBJECT)
    return None if sectors is None else sectors * SECTOR_BYTES


def _read_disk(root: Root, name: str) -> Disk:
    directory = f"sys/block/{name}"

    def number(file: str) -> int | None:
        return root.parse(f"{directory}/{file}", parse_number, SUBJECT, may_be_absent=True)

    def text(file: str) -> str | None:
        return root.parse(f"{directory}/{file}", parse_text, SUBJECT, may_be_absent=True)

    spins, removable = number("queue/rotational"), number("removable")
    return Disk(
        name=name,
        size_bytes=_size_bytes(root, name),
        spins=None if spins is None else bool(spins),
        removable=None if removable is None else bool(removable),
        model=text("device/model") or text("device/name"),
        scheduler=root.parse(
            f"{directory}/queue/scheduler", parse_scheduler, SUBJECT, may_be_absent=True
        ),
        # requests that the drive takes at once; NVMe and virtual disks publish it for the queue
        # only
        queue_depth=number("device/queue_depth") or number("queue/nr_requests"),
        partitions=[
            name for name in root.names(directory) if root.exists(f"{directory}/{name}/partition")
        ],
        disks_below=root.names(f"{directory}/slaves"),
        mapped_name=text("dm/name"),
        device=root.link_end(f"{directory}/device"),
        port=_port(root, directory),
    )


def _port(root: Root, directory: str) -> str | None:
    try:
        match = _ATA_PORT.search(root.link(directory) or "")
    except PermissionError:
        return None
    return match[1] if match else None
