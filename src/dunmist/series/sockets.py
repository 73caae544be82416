"""Sockets: whose each one is, and what it moved.

A process owns a socket when one of its descriptors refers to the socket's inode; several may. What
a TCP connection moved is divided among its owners' applications.
"""

import ipaddress
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache
from math import isnan
from typing import NamedTuple, TypedDict

import numpy as np

from dunmist.applications import Grouping
from dunmist.computer import SocketFacts
from dunmist.sampling import Survey, Tick
from dunmist.series.counters import Readings, Track
from dunmist.series.timeline import Floats, Rate, TimeLine

COUNTERS = (
    "sent_bytes",
    "received_bytes",
    "retransmitted",
    "sent_segments",
    "busy_us",
    "window_limited_us",
    "buffer_limited_us",
)
LEVELS = ("round_trip_us", "receive_queue_bytes")
US_PER_S = 1e6
# RFC 1918, RFC 3927, RFC 4193, RFC 4291: addresses that no router on the internet passes on
LOCAL_NETWORKS = tuple(
    ipaddress.ip_network(network)
    for network in (
        "10.0.0.0/8",
        "172.16.0.0/12",
        "192.168.0.0/16",
        "169.254.0.0/16",
        "fc00::/7",
        "fe80::/10",
    )
)
# a server's connections have few addresses at either end
ADDRESSES_KEPT = 65_536
LOCAL, INTERNET = "local network", "internet"


@dataclass(slots=True)
class SocketSeries:
    """One socket over the capture."""

    facts: SocketFacts
    owners: list[int]  # identities of processes
    state: str
    ended: bool
    sent_bytes_per_s: Rate | None  # None if no counter is published
    received_bytes_per_s: Rate | None
    # counted over the capture, None if no counter is published
    sent_bytes: int | None
    received_bytes: int | None
    retransmitted: int  # segments
    sent_segments: int | None
    # of a connection over the capture, None if the kernel does not publish them
    busy_s: float | None = None  # it had something to send
    window_limited_s: float | None = None  # the other end took no more
    buffer_limited_s: float | None = None  # its own buffer was full
    round_trip_s: float | None = None
    unread_bytes: float | None = None  # arrived and not yet read, most of the time
    moved_bytes: float | None = None  # in both directions since it was opened

    @property
    def at_most_s(self) -> float | None:
        """Longest time for which it can have moved as much as now; None if it moves nothing."""
        if self.sent_bytes_per_s is None or self.received_bytes_per_s is None:
            return None
        rate = self.sent_bytes_per_s.mean() + self.received_bytes_per_s.mean()
        return self.moved_bytes / rate if self.moved_bytes and rate > 0 else None

    @property
    def is_loopback(self) -> bool:
        """Whether it can only be reached from, or leads to, this computer itself."""
        address = self.facts.local
        return self.facts.protocol == "unix" or address is None or _is_loopback(address)

    @property
    def listens(self) -> bool:
        """Whether it waits for others; a UDP socket without another end does."""
        return self.state == "listen" or (
            self.facts.protocol == "udp" and self.facts.remote_port is None
        )


class UnixConnection(NamedTuple):
    """A connection over a Unix socket: identities of the processes at both ends."""

    servers: frozenset[int]
    clients: frozenset[int]
    is_asking: bool  # something was sent to the server that it had not read


@lru_cache(maxsize=ADDRESSES_KEPT)
def _plain(address: str) -> ipaddress.IPv4Address | ipaddress.IPv6Address:
    ip_address = ipaddress.ip_address(address)
    # a socket for both families shows IPv4 addresses as ::ffff:…
    mapped = ip_address.ipv4_mapped if isinstance(ip_address, ipaddress.IPv6Address) else None
    return mapped or ip_address


@lru_cache(maxsize=ADDRESSES_KEPT)
def _is_loopback(address: str) -> bool:
    try:
        return _plain(address).is_loopback
    except ValueError:
        return False  # no address that anybody could reach


def network_of(address: str) -> str:
    """Return whether an address is of a local network or of the internet."""
    try:
        ip_address = _plain(address)
    except ValueError:
        return INTERNET
    return LOCAL if any(ip_address in network for network in LOCAL_NETWORKS) else INTERNET


@lru_cache(maxsize=ADDRESSES_KEPT)
def plain_address(address: str | None) -> str | None:
    """Return an address as its link has it, None if there is none."""
    try:
        return None if address is None else str(_plain(address))
    except ValueError:
        return None


class SocketCollector:
    """Follows the sockets of a capture as it is read."""

    fields = ("sockets", "sockets_ended")

    def __init__(self) -> None:
        self._facts: dict[int, SocketFacts] = {}
        self._readings: Readings[int] = Readings(*COUNTERS, *LEVELS)
        self._state: dict[int, str] = {}
        self._ended: set[int] = set()
        self._owners_of_inode: dict[int, set[int]] = defaultdict(set)

    def __len__(self) -> int:
        return len(self._readings)

    def introduce(self, number: int, facts: SocketFacts) -> None:
        """Take a socket that appeared."""
        self._facts[number] = facts

    def stranger(self, tick: Tick) -> int | None:
        """Return a socket of a tick that was never introduced, None when all were."""
        numbers = (sample.socket for sample in tick.sockets)
        return next((number for number in numbers if number not in self._facts), None)

    def add(self, row: int, tick: Tick) -> None:
        """Add the figures of the ``row``-th tick, and what its details say of owners."""
        for detail in tick.details:
            for inode in detail.sockets:
                self._owners_of_inode[inode].add(detail.process)
        for sample in tick.sockets:
            self._state[sample.socket] = sample.state
            moved = (sample.sent_bytes, sample.received_bytes)
            if None not in moved:
                figures = [
                    *moved,
                    sample.retransmitted or 0,
                    sample.sent_segments,
                    sample.busy_us,
                    sample.window_limited_us,
                    sample.buffer_limited_us,
                    sample.round_trip_us,
                    sample.receive_queue_bytes,
                ]
                self._readings.add(row, sample.socket, figures, tick.after_s("sockets"))
        self._ended.update(tick.sockets_ended)

    def finish(self, line: TimeLine) -> list[SocketSeries]:
        """Return all sockets with their owners, in the order in which they came."""
        still = Rate.nothing(line)
        unmoved = {number: self._readings.unmoved(number) for number in self._facts}
        moved = {number for number, figures in unmoved.items() if figures is None}
        tracks = self._readings.over(line, moved)
        return [
            SocketSeries(
                facts=facts,
                owners=sorted(self._owners_of_inode.get(facts.inode, ())),
                state=self._state.get(number, "unknown"),
                ended=number in self._ended,
                **(
                    _of_track(tracks.get(number))
                    if (figures := unmoved[number]) is None
                    else _of_figures(figures, still)
                ),
            )
            for number, facts in self._facts.items()
        ]

    def unix_connections(self, surveys: Iterable[Survey]) -> list[UnixConnection]:
        """Return the connections over Unix sockets whose ends both belong to somebody."""
        asking: dict[tuple[int, int], bool] = defaultdict(bool)
        for survey in surveys:
            for pair in survey.unix_pairs:
                asking[pair.server, pair.client] |= pair.unread_bytes > 0
        owners = self._owners_of_inode
        return [
            UnixConnection(frozenset(owners[server]), frozenset(owners[client]), is_asking)
            for (server, client), is_asking in asking.items()
            if server in owners and client in owners
        ]


class _TrackedFigures(TypedDict):
    """Bytes of a socket as far as they are known; :class:`SocketSeries` has its facts."""

    sent_bytes_per_s: Rate | None
    received_bytes_per_s: Rate | None
    sent_bytes: int | None
    received_bytes: int | None
    retransmitted: int
    sent_segments: int | None
    busy_s: float | None
    window_limited_s: float | None
    buffer_limited_s: float | None
    round_trip_s: float | None
    unread_bytes: float | None
    moved_bytes: float | None


def _of_track(track: Track | None) -> _TrackedFigures:
    return _TrackedFigures(
        sent_bytes_per_s=_moved(track, "sent_bytes"),
        received_bytes_per_s=_moved(track, "received_bytes"),
        sent_bytes=_counted(track, "sent_bytes"),
        received_bytes=_counted(track, "received_bytes"),
        retransmitted=_counted(track, "retransmitted") or 0,
        sent_segments=_counted(track, "sent_segments"),
        busy_s=_seconds(track, "busy_us"),
        window_limited_s=_seconds(track, "window_limited_us"),
        buffer_limited_s=_seconds(track, "buffer_limited_us"),
        round_trip_s=_typical(track, "round_trip_us", 1.0 / US_PER_S),
        unread_bytes=_typical(track, "receive_queue_bytes", 1.0),
        moved_bytes=track.total("sent_bytes", "received_bytes") if track else None,
    )


def _of_figures(figures: dict[str, float], still: Rate) -> _TrackedFigures:
    """Return the same of one that moved nothing: a server has a hundred thousand of them."""
    known = {column: None if isnan(value) else value for column, value in figures.items()}
    nothing = {column: None if known[column] is None else 0 for column in COUNTERS}
    round_trip_us = known["round_trip_us"]
    total = figures["sent_bytes"] + figures["received_bytes"]
    return _TrackedFigures(
        sent_bytes_per_s=still,
        received_bytes_per_s=still,
        sent_bytes=nothing["sent_bytes"],
        received_bytes=nothing["received_bytes"],
        retransmitted=0,
        sent_segments=nothing["sent_segments"],
        busy_s=nothing["busy_us"],
        window_limited_s=nothing["window_limited_us"],
        buffer_limited_s=nothing["buffer_limited_us"],
        round_trip_s=None if round_trip_us is None else round_trip_us / US_PER_S,
        unread_bytes=known["receive_queue_bytes"],
        moved_bytes=None if isnan(total) else total,
    )


def _moved(track: Track | None, column: str) -> Rate | None:
    if track is None:
        return None
    return track.rate(column, base=_base(track), in_bursts=True).known_or(0.0)


def _counted(track: Track | None, column: str) -> int | None:
    if track is None or not track.is_known(column):
        return None
    return round(track.grown_in_all(column, _base(track)))


def _seconds(track: Track | None, column: str) -> float | None:
    counted = _counted(track, column)
    return None if counted is None else counted / US_PER_S


def _typical(track: Track | None, column: str, factor: float) -> float | None:
    median = track.level(column).median() if track is not None else None
    return None if median is None else median * factor


def _base(track: Track) -> float:
    # a connection that existed at the first tick has moved its first bytes before the capture
    return 0.0 if track.first_row else np.nan


def network_use(
    sockets: list[SocketSeries], grouping: Grouping, line: TimeLine
) -> tuple[Floats, Floats]:
    """Return bytes per second sent and received over TCP, shape (intervals, applications).

    Connections of this computer with itself are left out: they use no link.
    """
    shape = (line.intervals, len(grouping.groups))
    sent, received = np.zeros(shape), np.zeros(shape)
    for socket in sockets:
        if socket.sent_bytes_per_s is None or socket.received_bytes_per_s is None:
            continue
        if not (socket.sent_bytes or socket.received_bytes):
            continue
        applications = {
            grouping.application_of[owner]
            for owner in socket.owners
            if owner in grouping.application_of
        }
        if socket.is_loopback or not applications:
            continue
        for number in applications:
            sent[:, number] += socket.sent_bytes_per_s.values / len(applications)
            received[:, number] += socket.received_bytes_per_s.values / len(applications)
    return sent, received
