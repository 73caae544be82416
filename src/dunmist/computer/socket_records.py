"""What is known of one socket, wherever it was read."""

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
    """What does not change in a socket.

    ``protocol`` is tcp, udp or unix, ``version`` that of the internet protocol; a Unix socket has
    its path in ``local``. ``inode`` is how descriptors of processes refer to it (0: to nobody).
    """

    protocol: str
    version: int | None = None
    local: str | None = None
    local_port: Counter | None = None
    remote: str | None = None
    remote_port: Counter | None = None
    inode: Counter = 0
    uid: Counter | None = None


class SocketSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """One socket at one tick, written only when it changed; ``socket`` is its number.

    Bytes are those acknowledged by the other side and those received since the connection was
    made, None where no counter is published. ``retransmitted`` counts segments sent again,
    ``sent_segments`` all that were sent.
    """

    socket: Identity
    state: str
    receive_queue_bytes: Counter
    send_queue_bytes: Counter
    sent_bytes: Counter | None
    received_bytes: Counter | None
    retransmitted: Counter | None
    sent_segments: Counter | None = None


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

    def sample(self, number: int) -> SocketSample:
        """Return what may change, under the number that the capture gave the socket."""
        return SocketSample(
            number,
            self.state,
            self.receive_queue_bytes,
            self.send_queue_bytes,
            self.sent_bytes,
            self.received_bytes,
            self.retransmitted,
            self.sent_segments,
        )
