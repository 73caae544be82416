"""Find the process of each socket while sampling runs."""

from collections import defaultdict

from dunmist.sampling import SocketLine, Tick
from dunmist.sampling.deltas import Interval


class SocketOwners:
    """Follows sockets and the processes that have them open."""

    def __init__(self) -> None:
        self._inode_of: dict[int, int] = {}
        self._owner_of: dict[int, int] = {}
        self._port_of: dict[int, int] = {}

    def add(self, line: SocketLine) -> None:
        """Take a socket that came."""
        if line.facts.inode is not None:
            self._inode_of[line.id] = line.facts.inode
            if line.facts.remote_port is None and line.facts.local_port is not None:
                self._port_of[line.facts.inode] = line.facts.local_port

    def read(self, tick: Tick) -> None:
        """Take the owners of sockets from a tick."""
        for detail in tick.details:
            self._owner_of.update(dict.fromkeys(detail.sockets, detail.process))

    def forget(self, tick: Tick) -> None:
        """Drop the sockets that ended; what they moved was asked for before."""
        for identity in tick.sockets_ended:
            inode = self._inode_of.pop(identity, None)
            if inode is not None:
                self._owner_of.pop(inode, None)
                self._port_of.pop(inode, None)

    def ports(self) -> dict[int, set[int]]:
        """Return the ports on which each process listens."""
        ports: dict[int, set[int]] = defaultdict(set)
        for inode, port in self._port_of.items():
            if inode in self._owner_of:
                ports[self._owner_of[inode]].add(port)
        return ports

    def moved(self, interval: Interval) -> dict[int, float]:
        """Return the bytes a second that each process moved over TCP."""
        moved: dict[int, float] = defaultdict(float)
        for identity, bytes_per_s in interval.sockets.items():
            owner = self._owner_of.get(self._inode_of.get(identity, 0))
            if owner is not None:
                moved[owner] += bytes_per_s
        return moved
