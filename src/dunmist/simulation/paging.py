"""Model programs that want more memory than there is.

What is touched all the time must lie in memory; what is not may lie in swap without harm. Beyond
what fits, pages go out and come back. Tasks that touch their memory wait for the disk, and the
kernel scans and reclaims. The share of time in which they wait grows with the excess.
"""

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from dunmist.simulation.stalls import Stalls

Floats = NDArray[np.float64]

PAGE_BYTES = 4096
MIB = 1 << 20
# program text and libraries that are always wanted
LEAST_CACHE_MIB = 90.0
# share of time a process waits when what is touched exceeds the memory by a tenth
STALL_GAIN = 6.0
# somebody always makes a little progress
MOST_STALLED = 0.92
PAGES_PER_S_FULL = 9000.0  # paged in when everybody waits all the time
# the kernel reads swap in clusters
PAGES_A_FAULT = 4
# compressed pages come back in some microseconds instead of a tenth of a millisecond and more
COMPRESSED_STALL = 0.4
# assumed: the memory of programs shrinks to a third
COMPRESSED_SIZE = 1 / 3
NO_LIMITS: Floats = np.zeros(0)


def stalled_by(excess: Floats) -> Floats:
    """Return the share of time that processes wait for pages by what does not fit, of what does."""
    return np.minimum(MOST_STALLED, STALL_GAIN * excess)


@dataclass(slots=True)
class Memory:
    """Memory of a model computer."""

    total_mib: float
    kernel_mib: float
    cache_wanted_mib: float  # pages that it would keep with enough room
    swap_mib: float
    swap_quiet_mib: float = 0.0  # in swap from earlier, and not wanted back
    compressed: bool = False  # pages go to no disk and come back sooner
    files_mib: float = 0.0  # in memory, of a tmpfs
    reserved_mib: float = 0.0  # for huge pages
    private_mib: float = 0.0
    resident_mib: float = 0.0
    cache_mib: float = 0.0
    swapped_mib: float = 0.0
    stalled: float = 0.0  # share of the last step
    stalls: Stalls = field(default_factory=Stalls)
    counters: dict[str, float] = field(default_factory=dict)  # of /proc/vmstat

    @property
    def resident_share(self) -> float:
        """Resident part of the memory of all programs."""
        return self.resident_mib / self.private_mib if self.private_mib else 1.0

    @property
    def unowned_mib(self) -> float:
        """Memory that neither programs nor the file cache have."""
        return self.kernel_mib + self.files_mib + self.reserved_mib

    @property
    def compressed_mib(self) -> float:
        """Memory that compressed pages take."""
        return self.swapped_mib * COMPRESSED_SIZE if self.compressed else 0.0

    @property
    def free_mib(self) -> float:
        """Memory that nobody uses."""
        used = self.unowned_mib + self.resident_mib + self.cache_mib + self.compressed_mib
        return max(0.0, self.total_mib - used)

    def step(
        self,
        private_mib: float,
        touched_mib: float,
        touchers: int,
        step_s: float,
        *,
        kept_out_share: Floats = NO_LIMITS,
        kept_out_mib: float = 0.0,
    ) -> float:
        """Move on and return the bytes a second that go to and from swap on a disk together.

        ``kept_out_share`` is what limits of their own keep out of memory, of what they let in, for
        each process; ``kept_out_mib`` the sum of it.
        """
        room = self.total_mib - self.unowned_mib - LEAST_CACHE_MIB - self.compressed_mib
        excess = max(0.0, private_mib - room)
        self.private_mib = private_mib
        self.swapped_mib = min(self.swap_mib, max(excess, self.swap_quiet_mib) + kept_out_mib)
        self.resident_mib = min(private_mib, room)
        left = self.total_mib - self.unowned_mib - self.resident_mib - self.compressed_mib
        self.cache_mib = max(LEAST_CACHE_MIB, min(self.cache_wanted_mib, left - 60.0))
        beyond = max(0.0, touched_mib / room - 1.0)
        gain = COMPRESSED_STALL if self.compressed else 1.0
        self.stalled = min(MOST_STALLED, STALL_GAIN * beyond) * gain
        by_limits = stalled_by(kept_out_share) * gain
        pages = PAGES_PER_S_FULL * (self.stalled + float(by_limits.sum()))
        none_waits = (1 - self.stalled) ** max(1, min(touchers, 6))
        none_waits *= float(np.prod(1 - by_limits))
        self.stalls.add(1 - none_waits if pages else 0.0, self.stalled**2, step_s)
        self._count(pages * step_s)
        return 0.0 if self.compressed else 2 * pages * PAGE_BYTES

    def _count(self, pages: float) -> None:
        for word, amount in (
            ("pswpin", pages),
            ("pswpout", pages * 0.95),
            ("pgmajfault", pages / PAGES_A_FAULT),
            ("pgscan_kswapd", pages * 3),
            ("pgscan_direct", pages * 0.8),
            ("pgsteal_kswapd", pages),
            ("workingset_refault_anon", pages * 0.9),
            ("workingset_refault_file", pages * 0.4),
            ("allocstall_normal", pages / 30),
        ):
            self.counters[word] = self.counters.get(word, 0.0) + amount
