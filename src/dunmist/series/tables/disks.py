"""Topic ``disks``: every block device, and what is mounted."""

import pandas as pd

from dunmist.series.load import Series
from dunmist.series.tables._frames import frame_of, greatest, known_mean, mean


def disk_table(series: Series) -> pd.DataFrame:
    """Return one row for each block device, physical disks first, the busiest on top."""
    weights = series.machine.interval_s
    rows: list[dict[str, object]] = []
    for one in series.devices.disks:
        about = one.about
        below = [disk.name for disk in series.header.inventory.disks if one.name in disk.partitions]
        rows.append(
            {
                "disk": one.name,
                "physical": one.is_physical,
                "part_of": " ".join(below or (about.disks_below if about else [])) or None,
                "model": about.model if about else None,
                "mapped_name": about.mapped_name if about else None,
                "size_bytes": about.size_bytes if about else None,
                "spins": about.spins if about else None,
                "scheduler": about.scheduler if about else None,
                "queue_depth": about.queue_depth if about else None,
                "busy_mean": mean(one.busy, weights),
                "busy_max": greatest(one.busy),
                "queue_mean": mean(one.queue, weights),
                "latency_mean_s": known_mean(one.latency_s, weights),
                "latency_max_s": greatest(one.latency_s),
                "requests_per_s": mean(one.requests_per_s, weights),
                "read_bytes_per_s": mean(one.read_bytes_per_s, weights),
                "write_bytes_per_s": mean(one.write_bytes_per_s, weights),
            }
        )
    return frame_of(rows, "physical", "busy_mean")


def file_system_table(series: Series) -> pd.DataFrame:
    """Return one row for each file system that holds something, the fullest first."""
    survey = series.last_survey
    rows: list[dict[str, object]] = []
    for one in survey.file_systems if survey else []:
        size, free, available = one.size_bytes, one.free_bytes, one.available_bytes
        used = share = None
        if size is not None and free is not None and available is not None:
            used = size - free
            # what only the administrator may still write is neither used nor available
            share = used / (used + available) if used + available else None
        inodes = one.inodes or None
        rows.append(
            {
                "mounted_on": one.point,
                "type": one.kind,
                "source": one.source,
                "read_only": one.read_only,
                "size_bytes": size,
                "used_bytes": used,
                "available_bytes": available,
                "used_share": share,
                "inodes_share": None
                if inodes is None or one.inodes_free is None
                else 1 - one.inodes_free / inodes,
            }
        )
    return frame_of(rows, "used_share")
