"""A disk with a service time and a queue.

Each process has one request under way at a time. A request takes its service time, and waits for
those before it; when more is asked for than the disk can do, everybody gets the same share.
"""

from dataclasses import dataclass

from dunmist.simulation.scenario import DiskSpec

MIB = 1 << 20
SEEK_S = {True: 0.0085, False: 0.00009}
BYTES_PER_S = {True: 140 * MIB, False: 480 * MIB}
SEQUENTIAL_BYTES = 100 << 10  # from this size on a spinning disk hardly has to seek
# a stream of one file moves the head seldom
SEEK_SHARE_SEQUENTIAL = 0.04
# the queue of an ordinary driver
MOST_QUEUE = 64.0


@dataclass(slots=True)
class Request:
    """Demand of one process on a disk: bytes a second in requests of one size."""

    read: float
    written: float
    size: float


@dataclass(slots=True)
class Disk:
    """One disk and its counters since it was attached."""

    spec: DiskSpec
    reads: float = 9000.0  # state left by the start of the computer
    read_bytes: float = 360e6
    read_s: float = 12.0  # summed over requests
    writes: float = 4000.0
    written_bytes: float = 150e6
    write_s: float = 9.0
    busy_s: float = 20.0  # with a request under way
    queued_s: float = 21.0  # grows by the requests under way
    in_flight: float = 0.0
    used: float = 0.0  # share of the last step

    def service_s(self, size: float) -> float:
        """Return the service time of a single request of this many bytes."""
        seek_s = SEEK_S[self.spec.spins]
        if size >= SEQUENTIAL_BYTES:
            seek_s *= SEEK_SHARE_SEQUENTIAL if self.spec.spins else 1.0
        return (seek_s + size / BYTES_PER_S[self.spec.spins]) * self.spec.slowness

    def step(self, wants: list[Request], step_s: float) -> list[tuple[float, float]]:
        """Serve for one step; return the share served and the share of time waited of each."""
        services = [self.service_s(want.size) for want in wants]
        rates = [(want.read + want.written) / want.size for want in wants]
        asked = sum(rate * service for rate, service in zip(rates, services, strict=True))
        served = 1.0 if asked <= 1.0 else 1.0 / asked
        self.used = min(1.0, asked)
        askers = sum(rate > 0 for rate in rates)
        queue = min(MOST_QUEUE, self.used / max(1.0 - self.used, 1e-3), max(askers - 1.0, 0.0))
        results = []
        for want, rate, service in zip(wants, rates, services, strict=True):
            latency = service * (1.0 + queue)
            waited = min(1.0, rate * served * latency)
            # a program that does not get what it wants always has a request under way
            results.append((served, 1.0 if served < 0.98 and rate > 0 else waited))
            done = rate * served * step_s
            part = want.read / max(want.read + want.written, 1e-9)
            self._account(done, part, want.size, latency)
        self.in_flight = sum(waited for _, waited in results)
        self.busy_s += self.used * step_s
        self.queued_s += self.in_flight * step_s
        return results

    def _account(self, done: float, read_part: float, size: float, latency: float) -> None:
        self.reads += done * read_part
        self.writes += done * (1 - read_part)
        self.read_bytes += done * read_part * size
        self.written_bytes += done * (1 - read_part) * size
        self.read_s += done * read_part * latency
        self.write_s += done * (1 - read_part) * latency
