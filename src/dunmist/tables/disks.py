"""Topic ``disks``: every block device, and all mounts."""

from collections.abc import Iterator
from typing import NamedTuple

from dunmist.advice import Judged
from dunmist.computer import Disk
from dunmist.series import DiskSeries, Storage
from dunmist.tables.declared import Column, Table, Width


class OneDisk(NamedTuple):
    """One block device, with the disks that it is a part of."""

    disk: DiskSeries
    wholes: list[str]

    @property
    def about(self) -> Disk | None:
        """Facts of a disk that are no figures."""
        return self.disk.about


def _disks(judged: Judged) -> Iterator[OneDisk]:
    inventory = judged.series.header.inventory.disks
    for disk in judged.series.devices.disks:
        wholes = [parent.name for parent in inventory if disk.name in parent.partitions]
        yield OneDisk(disk, wholes or (disk.about.disks_below if disk.about else []))


DISKS: Table[OneDisk] = Table(
    "disks",
    "physical ones first, the busiest on top",
    (
        Column("disk", "text", "block device as the kernel calls it", lambda row: row.disk.name,
            answers=("name",)),
        Column("physical", "flag", "neither a partition nor mapped onto others",
            lambda row: row.disk.is_physical),
        Column("part_of", "text", "disks that it is a part of, or is mapped onto",
            lambda row: " ".join(row.wholes) or None),
        Column("model", "text", "name given by its maker",
            lambda row: row.about and row.about.model, width=Width()),
        Column("mapped_name", "text", "name of a mapped device",
            lambda row: row.about and row.about.mapped_name),
        Column("size_bytes", "bytes", "size", lambda row: row.about and row.about.size_bytes),
        Column("spins", "flag", "whether it has turning platters",
            lambda row: row.about and row.about.spins),
        Column("scheduler", "text", "how the kernel orders its requests",
            lambda row: row.about and row.about.scheduler),
        Column("queue_depth", "number", "requests that it takes at once",
            lambda row: row.about and row.about.queue_depth),
        Column("busy_mean", "share", "share of time with a request under way, mean",
            lambda row: row.disk.busy.mean(), answers=("least",)),
        Column("busy_max", "share", "the same, most in an interval",
            lambda row: row.disk.busy.greatest()),
        Column("queue_mean", "figure", "requests under way at a time, mean",
            lambda row: row.disk.queue.mean()),
        Column("latency_mean_s", "s", "whole time of a request, mean",
            lambda row: row.disk.latency_s.known_mean()),
        Column("latency_max_s", "s", "the same, most in an interval",
            lambda row: row.disk.latency_s.greatest()),
        Column("requests_per_s", "a second", "requests",
            lambda row: row.disk.requests_per_s.mean()),
        Column("read_bytes_per_s", "bytes/s", "read", lambda row: row.disk.read_bytes_per_s.mean()),
        Column("write_bytes_per_s", "bytes/s", "written",
            lambda row: row.disk.write_bytes_per_s.mean()),
    ),
    _disks,
    shown=("disk", "busy_mean", "busy_max", "read_bytes_per_s", "write_bytes_per_s",
        "latency_mean_s", "queue_mean", "requests_per_s", "spins", "size_bytes", "part_of",
        "model"),
    order=("physical", "busy_mean"),
)


FILE_SYSTEMS: Table[Storage] = Table(
    "file systems",
    "the fullest first",
    (
        Column("mounted_on", "text", "where it is mounted", lambda row: row.point, width=Width()),
        Column("type", "text", "type", lambda row: row.about.kind),
        Column("source", "text", "device or server", lambda row: row.about.source,
            width=Width(most=44)),
        Column("read_only", "flag", "whether nothing can be written",
            lambda row: row.about.read_only),
        Column("size_bytes", "bytes", "size", lambda row: row.about.size_bytes),
        Column("used_bytes", "bytes", "used"),
        Column("available_bytes", "bytes", "what people may still write",
            lambda row: row.about.available_bytes),
        Column("used_share", "share", "used, of what people may use", lambda row: row.used,
            answers=("least",)),
        Column("inodes_share", "share", "inodes in use", lambda row: row.inodes),
    ),
    lambda judged: judged.series.surveyed.storage,
    shown=("mounted_on", "used_share", "available_bytes", "used_bytes", "size_bytes",
        "inodes_share", "type", "source", "read_only"),
    order=("used_share",),
)
