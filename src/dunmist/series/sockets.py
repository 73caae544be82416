"""Sockets: whose each one is, and what it moved.

A process owns a socket when one of its descriptors refers to the socket's inode; several may. What
a TCP connection moved is divided among its owners' applications.
"""

import ipaddress
from collections import defaultdict
from dataclasses import dataclass, field

import numpy as np

from dunmist.applications import Grouping
from dunmist.computer import SocketFacts, SocketSample
from dunmist.series.rates import Floats


@dataclass(slots=True)
class SocketSeries:
    """One socket. ``owners`` are identities of processes, bytes are counts over the capture.

    ``sent_bytes`` and ``received_bytes`` are None where no counter is published. ``moved`` maps an
    interval to bytes sent and received in it.
    """

    facts: SocketFacts
    first_tick: int
    owners: list[int] = field(default_factory=list)
    state: str = "unknown"
    ended: bool = False
    sent_bytes: int | None = None
    received_bytes: int | None = None
    retransmitted: int = 0
    moved: dict[int, tuple[int, int]] = field(default_factory=dict)

    @property
    def is_loopback(self) -> bool:
        """Whether it can only be reached from, or leads to, this computer itself."""
        address = self.facts.local
        if self.facts.protocol == "unix" or address is None:
            return True
        try:
            return _plain(address).is_loopback
        except ValueError:
            return False  # no address that anybody could reach

    @property
    def listens(self) -> bool:
        """Whether it waits for others; a UDP socket without another end does."""
        return self.state == "listen" or (
            self.facts.protocol == "udp" and self.facts.remote_port is None
        )


def _plain(address: str) -> ipaddress.IPv4Address | ipaddress.IPv6Address:
    found = ipaddress.ip_address(address)
    mapped = found.ipv4_mapped if isinstance(found, ipaddress.IPv6Address) else None
    return mapped or found


class SocketCollector:
    """Follows the sockets of a capture as it is read."""

    def __init__(self) -> None:
        self.sockets: dict[int, SocketSeries] = {}
        self._before: dict[int, SocketSample] = {}
        self._by_inode: dict[int, set[int]] = defaultdict(set)

    def introduce(self, number: int, row: int, facts: SocketFacts) -> None:
        """Take a socket that appeared before the ``row``-th tick."""
        self.sockets[number] = SocketSeries(facts, first_tick=row)

    def add(self, row: int, sample: SocketSample) -> None:
        """Take one reading; raises KeyError for a socket that was never introduced."""
        one = self.sockets[sample.socket]
        one.state = sample.state
        before = self._before.get(sample.socket)
        self._before[sample.socket] = sample
        if sample.sent_bytes is None or sample.received_bytes is None:
            return
        # one that was there before the capture has moved its first bytes before it, too
        base = (sample.sent_bytes, sample.received_bytes) if not row else (0, 0)
        if before and before.sent_bytes is not None and before.received_bytes is not None:
            base = (before.sent_bytes, before.received_bytes)
        sent = max(0, sample.sent_bytes - base[0])
        received = max(0, sample.received_bytes - base[1])
        one.sent_bytes = (one.sent_bytes or 0) + sent
        one.received_bytes = (one.received_bytes or 0) + received
        one.retransmitted += (
            max(0, (sample.retransmitted or 0) - ((before.retransmitted or 0) if before else 0))
            if row
            else 0
        )
        if row and (sent or received):
            one.moved[row - 1] = (sent, received)

    def end(self, number: int) -> None:
        """Take the end of a socket."""
        if number in self.sockets:
            self.sockets[number].ended = True

    def owned(self, process: int, inodes: list[int]) -> None:
        """Take the sockets that a process was seen to have open."""
        for inode in inodes:
            self._by_inode[inode].add(process)

    def finish(self) -> list[SocketSeries]:
        """Return all sockets with their owners."""
        for one in self.sockets.values():
            one.owners = sorted(self._by_inode.get(one.facts.inode, ()))
        return list(self.sockets.values())


def network_use(
    sockets: list[SocketSeries], grouping: Grouping, interval_s: Floats
) -> tuple[Floats, Floats]:
    """Return bytes per second sent and received over TCP, shape (intervals, applications).

    Connections of this computer with itself are left out: they use no link.
    """
    shape = (len(interval_s), len(grouping.applications))
    sent, received = np.zeros(shape), np.zeros(shape)
    for one in sockets:
        applications = {grouping.application_of[owner] for owner in one.owners}
        if one.is_loopback or not applications:
            continue
        for row, (out, into) in one.moved.items():
            for number in applications:
                sent[row, number] += out / len(applications)
                received[row, number] += into / len(applications)
    return sent / interval_s[:, None], received / interval_s[:, None]
