"""Disks over the intervals: how busy, how long the queue, how slow, how much moved."""

from dataclasses import dataclass

import numpy as np

from dunmist.computer import SECTOR_BYTES, Disk, DiskSample
from dunmist.series.rates import Floats, increments
from dunmist.series.sparse import Sparse

MS_PER_S = 1e3
FIGURES = (
    "reads", "read_sectors", "read_ms", "writes", "written_sectors", "write_ms", "busy_ms",
    "queued_ms",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class DiskSeries:
    """One block device. Arrays are over intervals, NaN where a counter went backwards.

    ``busy`` is the share of time with a request under way, ``queue`` the mean number of requests
    under way, ``latency_s`` the mean whole time of a finished request (NaN without one).
    ``is_physical`` is false for a partition, and for a device that is mapped onto others.
    """

    name: str
    about: Disk | None
    is_physical: bool
    read_bytes_per_s: Floats
    write_bytes_per_s: Floats
    requests_per_s: Floats
    busy: Floats
    queue: Floats
    latency_s: Floats

    @property
    def bytes_per_s(self) -> Floats:
        """Bytes moved in both directions."""
        return self.read_bytes_per_s + self.write_bytes_per_s


def figures_of(sample: DiskSample) -> list[float]:
    """Return the counters that are followed, in the order of ``FIGURES``."""
    return [getattr(sample, name) for name in FIGURES]


def disk_series(counters: Sparse[str], disks: list[Disk], interval_s: Floats) -> list[DiskSeries]:
    """Return every block device that was seen, in the order of the kernel's list."""
    about = {disk.name: disk for disk in disks}
    return [
        _one(name, about.get(name), over, interval_s)
        for name, over in counters.over(len(interval_s) + 1).items()
    ]


def _one(name: str, about: Disk | None, over: Floats, interval_s: Floats) -> DiskSeries:
    grown = dict(zip(FIGURES, increments(over).T, strict=True))
    requests = grown["reads"] + grown["writes"]
    with np.errstate(invalid="ignore", divide="ignore"):
        latency_s = (grown["read_ms"] + grown["write_ms"]) / MS_PER_S / requests
    return DiskSeries(
        name=name,
        about=about,
        is_physical=about is not None and not about.disks_below,
        read_bytes_per_s=grown["read_sectors"] * SECTOR_BYTES / interval_s,
        write_bytes_per_s=grown["written_sectors"] * SECTOR_BYTES / interval_s,
        requests_per_s=requests / interval_s,
        busy=np.minimum(grown["busy_ms"] / MS_PER_S / interval_s, 1.0),
        queue=grown["queued_ms"] / MS_PER_S / interval_s,
        latency_s=np.where(requests > 0, latency_s, np.nan),
    )
