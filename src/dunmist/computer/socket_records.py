"""Define the record of one socket, from any source."""

from typing import NamedTuple

import msgspec

from dunmist.computer.parsing import Counter, Identity

# include/net/tcp_states.h; the words are those of RFC 9293
STATES = {
    1: "established",
    2: "syn-sent",
    3: "syn-received",
    4: "fin-wait-1",
    5: "fin-wait-2",
    6: "time-wait",
    7: "closed",
    8: "close-wait",
    9: "last-ack",
    10: "listen",
    11: "closing",
    12: "syn-received",
}


class SocketFacts(msgspec.Struct, frozen=True, omit_defaults=True):
    """Constant facts of a socket."""

    protocol: str  # tcp, udp or unix
    version: int | None = None  # 4 or 6
    local: str | None = None  # an address, or the path of a Unix socket
    local_port: Counter | None = None
    remote: str | None = None  # None while it listens
    remote_port: Counter | None = None
    inode: Counter = 0  # how descriptors refer to it; 0 where none does
    uid: Counter | None = None


class UnixPair(msgspec.Struct, frozen=True, array_like=True):
    """A connection of two programs over a Unix socket; the server's end has its path or name."""

    server: Counter  # inode of the end that a server accepted
    client: Counter  # inode of the other end
    unread_bytes: Counter  # the client sent them, and the server has not read them


class SocketSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """One socket at one tick, written when it changed."""

    socket: Identity  # the number that the capture gave it
    state: str
    receive_queue_bytes: Counter  # arrived and not read; for a listener connections to be accepted
    send_queue_bytes: Counter
    sent_bytes: Counter | None  # tcpi_bytes_acked; None if no counter is published
    received_bytes: Counter | None  # tcpi_bytes_received
    retransmitted: Counter | None  # tcpi_total_retrans, segments
    sent_segments: Counter | None = None  # tcpi_segs_out, since Linux 4.2
    # of a connection, since Linux 4.10; times are what the kernel counted so far
    round_trip_us: Counter | None = None  # tcpi_rtt, smoothed
    busy_us: Counter | None = None  # tcpi_busy_time: something was to be sent
    window_limited_us: Counter | None = None  # tcpi_rwnd_limited: the other end took no more
    buffer_limited_us: Counter | None = None  # tcpi_sndbuf_limited: its own buffer was full


class SocketReading(NamedTuple):
    """One socket as read; ``key`` tells it from all others for as long as it exists."""

    key: tuple[object, ...]
    facts: SocketFacts
    state: str
    receive_queue_bytes: int = 0
    send_queue_bytes: int = 0
    sent_bytes: int | None = None
    received_bytes: int | None = None
    retransmitted: int | None = None
    sent_segments: int | None = None
    round_trip_us: int | None = None
    busy_us: int | None = None
    window_limited_us: int | None = None
    buffer_limited_us: int | None = None

    def sample(self, number: int) -> SocketSample:
        """Return the changing figures, under the number of the socket in the capture."""
        return SocketSample(
            number,
            self.state,
            self.receive_queue_bytes,
            self.send_queue_bytes,
            self.sent_bytes,
            self.received_bytes,
            self.retransmitted,
            self.sent_segments,
            self.round_trip_us,
            self.busy_us,
            self.window_limited_us,
            self.buffer_limited_us,
        )
