"""Topic ``disks``: every block device, and what is mounted."""

from collections.abc import Iterator

from dunmist.advice import Judged
from dunmist.tables.declared import Column, Row, Table, Width


def _disks(judged: Judged) -> Iterator[Row]:
    series = judged.series
    inventory = series.header.inventory.disks
    for disk in series.devices.disks:
        about = disk.about
        whole = [parent.name for parent in inventory if disk.name in parent.partitions]
        yield {
            "disk": disk.name,
            "physical": disk.is_physical,
            "part_of": " ".join(whole or (about.disks_below if about else [])) or None,
            "model": about.model if about else None,
            "mapped_name": about.mapped_name if about else None,
            "size_bytes": about.size_bytes if about else None,
            "spins": about.spins if about else None,
            "scheduler": about.scheduler if about else None,
            "queue_depth": about.queue_depth if about else None,
            "busy_mean": disk.busy.mean(),
            "busy_max": disk.busy.greatest(),
            "queue_mean": disk.queue.mean(),
            "latency_mean_s": disk.latency_s.known_mean(),
            "latency_max_s": disk.latency_s.greatest(),
            "requests_per_s": disk.requests_per_s.mean(),
            "read_bytes_per_s": disk.read_bytes_per_s.mean(),
            "write_bytes_per_s": disk.write_bytes_per_s.mean(),
        }


DISKS = Table(
    "disks",
    "physical ones first, the busiest on top",
    (
        Column("disk", "text", "block device as the kernel calls it", answers=("name",)),
        Column("physical", "flag", "neither a partition nor mapped onto others"),
        Column("part_of", "text", "disks that it is a part of, or is mapped onto"),
        Column("model", "text", "what its maker calls it", Width()),
        Column("mapped_name", "text", "name of a mapped device"),
        Column("size_bytes", "bytes", "size"),
        Column("spins", "flag", "whether it has turning platters"),
        Column("scheduler", "text", "how the kernel orders its requests"),
        Column("queue_depth", "number", "requests that it takes at once"),
        Column(
            "busy_mean", "share", "share of time with a request under way, mean", answers=("least",)
        ),
        Column("busy_max", "share", "the same, most in an interval"),
        Column("queue_mean", "figure", "requests under way at a time, mean"),
        Column("latency_mean_s", "s", "whole time of a request, mean"),
        Column("latency_max_s", "s", "the same, most in an interval"),
        Column("requests_per_s", "a second", "requests"),
        Column("read_bytes_per_s", "bytes/s", "read"),
        Column("write_bytes_per_s", "bytes/s", "written"),
    ),
    _disks,
    shown=(
        "disk",
        "busy_mean",
        "busy_max",
        "read_bytes_per_s",
        "write_bytes_per_s",
        "latency_mean_s",
        "queue_mean",
        "requests_per_s",
        "spins",
        "size_bytes",
        "part_of",
        "model",
    ),
    order=("physical", "busy_mean"),
)


def _file_systems(judged: Judged) -> Iterator[Row]:
    for file_system in judged.series.surveyed.storage:
        about = file_system.about
        yield {
            "mounted_on": file_system.point,
            "type": about.kind,
            "source": about.source,
            "read_only": about.read_only,
            "size_bytes": about.size_bytes,
            "used_bytes": file_system.used_bytes,
            "available_bytes": about.available_bytes,
            "used_share": file_system.used,
            "inodes_share": file_system.inodes,
        }


FILE_SYSTEMS = Table(
    "file systems",
    "the fullest first",
    (
        Column("mounted_on", "text", "where it is mounted", Width()),
        Column("type", "text", "type"),
        Column("source", "text", "device or server", Width(most=44)),
        Column("read_only", "flag", "whether nothing can be written"),
        Column("size_bytes", "bytes", "size"),
        Column("used_bytes", "bytes", "used"),
        Column("available_bytes", "bytes", "what people may still write"),
        Column("used_share", "share", "used, of what people may use", answers=("least",)),
        Column("inodes_share", "share", "inodes in use"),
    ),
    _file_systems,
    shown=(
        "mounted_on",
        "used_share",
        "available_bytes",
        "used_bytes",
        "size_bytes",
        "inodes_share",
        "type",
        "source",
        "read_only",
    ),
    order=("used_share",),
)
