"""Sockets as the kernel lists them over netlink: sock_diag(7).

TCP sockets come with their ``struct tcp_info`` (include/uapi/linux/tcp.h), which counts bytes.
Destroyed TCP sockets are announced to a multicast group, so that what a connection moved between
the last listing and its end is not missed.
"""

import ipaddress
import socket
import struct
from collections.abc import Iterator
from typing import NamedTuple

from dunmist.computer.netlink import (
    NLM_F_DUMP,
    Message,
    NetlinkSocket,
    parse_attributes,
    parse_messages,
)
from dunmist.computer.parsing import COUNTER_MAX, ParseError, text_of
from dunmist.computer.root import Root
from dunmist.computer.socket_records import STATES, SocketFacts, SocketReading, UnixPair

# include/uapi/linux/netlink.h
NETLINK_SOCK_DIAG = 4
# include/uapi/linux/sock_diag.h
SOCK_DIAG_BY_FAMILY = 20
# the older request: the kernel walks its table of connections once for both families, not twice
TCPDIAG_GETSOCK = 18
# attributes that carry struct tcp_info, and the path of a socket
INET_DIAG_INFO, UNIX_DIAG_NAME, UNIX_DIAG_PEER, UNIX_DIAG_RQLEN = 2, 0, 2, 4
# groups that announce each socket that is closed
GROUP_TCP_DESTROY, GROUP_TCP6_DESTROY = 1, 3
# a mask of states, a bit each
ALL_STATES = 0xFFFFFFFF
ESTABLISHED_ONLY, LISTEN_ONLY = 1 << 1, 1 << 10
# include/uapi/linux/unix_diag.h
UDIAG_SHOW_NAME, UDIAG_SHOW_PEER, UDIAG_SHOW_RQLEN = 1, 4, 16
FAMILIES = {4: socket.AF_INET, 6: socket.AF_INET6}
VERSIONS = {int(family): version for version, family in FAMILIES.items()}

# family, protocol, extensions, padding, states; then an empty struct inet_diag_sockid
_INET_REQUEST = struct.Struct("=BBBBI48x")
# family, prefix lengths, extensions, an empty struct inet_diag_sockid, states, cursor
_TCP_REQUEST = struct.Struct("=BBBB48xII")
# family, protocol, extensions, padding, states, then the struct inet_diag_sockid of one socket
_ONE_REQUEST = struct.Struct("=BBBBI48s")
_INET_PORTS = struct.Struct("!HH")
_INET_COOKIE = struct.Struct("=Q")
_INET_TAIL = struct.Struct("=IIIII")  # expires, receive queue, send queue, uid, inode
RECORDED = "netlink/sock_diag-tcp"
# struct inet_diag_msg without the header
INET_BYTES = 72
SOCKET_ID = slice(4, 52)
_TCP_RETRANSMITTED = struct.Struct("=I")  # at 100 of struct tcp_info
_TCP_BYTES = struct.Struct("=QQ")  # at 120: acknowledged by the other side, received
_TCP_SEGMENTS = struct.Struct("=I")  # at 136: sent in all, since Linux 4.2
_TCP_ROUND_TRIP = struct.Struct("=I")  # at 68: smoothed, in microseconds
# at 168: microseconds with something to send, of those held up by the window of the other end, and
# by the own buffer; since Linux 4.10
_TCP_LIMITED = struct.Struct("=QQQ")
_UNIX_REQUEST = struct.Struct("=BBHIIIQ")
_UNIX = struct.Struct("=BBBBIQ")  # family, type, state, padding, inode, cookie
_UNIX_NUMBER = struct.Struct("=I")  # of the peer; of the bytes that can be read


def parse_inet(body: memoryview, protocol: str, facts: SocketFacts | None = None) -> SocketReading:
    """Return one TCP or UDP socket of a listing; raises ParseError.

    Its ``facts`` are not parsed where they are known.
    """
    if len(body) < INET_BYTES or body[0] not in VERSIONS:
        raise ParseError("sock_diag", "no internet socket", bytes(body[:8]))
    version = VERSIONS[body[0]]
    local_port, remote_port = _INET_PORTS.unpack_from(body, 4)
    width = 4 if version == 4 else 16
    (cookie,) = _INET_COOKIE.unpack_from(body, 44)
    _, receive_queue, send_queue, uid, inode = _INET_TAIL.unpack_from(body, 52)
    sent = received = retransmitted = segments = round_trip = None
    limited: list[int | None] = [None] * 3
    for kind, value in parse_attributes(body[INET_BYTES:]):
        if kind == INET_DIAG_INFO and len(value) >= 136:
            (retransmitted,) = _TCP_RETRANSMITTED.unpack_from(value, 100)
            if len(value) >= 140:
                (segments,) = _TCP_SEGMENTS.unpack_from(value, 136)
            if len(value) >= 192:
                (round_trip,) = _TCP_ROUND_TRIP.unpack_from(value, 68)
                limited = [min(us, COUNTER_MAX) for us in _TCP_LIMITED.unpack_from(value, 168)]
            sent, received = (
                min(count, COUNTER_MAX) for count in _TCP_BYTES.unpack_from(value, 120)
            )
    return SocketReading(
        key=(protocol, cookie),
        facts=facts
        or SocketFacts(
            protocol=protocol,
            version=version,
            local=_address(body[8 : 8 + width]),
            local_port=local_port,
            remote=_address(body[24 : 24 + width]) if remote_port else None,
            remote_port=remote_port or None,
            inode=inode,
            uid=uid,
        ),
        state=STATES.get(body[1], "unknown"),
        receive_queue_bytes=receive_queue,
        send_queue_bytes=send_queue,
        sent_bytes=sent,
        received_bytes=received,
        retransmitted=retransmitted,
        sent_segments=segments,
        round_trip_us=round_trip,
        busy_us=limited[0],
        window_limited_us=limited[1],
        buffer_limited_us=limited[2],
    )


def parse_unix(body: memoryview) -> SocketReading:
    """Return one Unix socket of a listing; raises ParseError."""
    if len(body) < _UNIX.size:
        raise ParseError("sock_diag", "no Unix socket", bytes(body[:8]))
    _, _, state, _, inode, cookie = _UNIX.unpack_from(body)
    name = dict(parse_attributes(body[_UNIX.size :])).get(UNIX_DIAG_NAME)
    return SocketReading(
        key=("unix", cookie),
        facts=SocketFacts(protocol="unix", local=_unix_name(name) if name else None, inode=inode),
        state=STATES.get(state, "unknown"),
    )


def _unix_name(raw: memoryview) -> str:
    # an abstract name begins with a zero byte and is written with '@' (unix(7))
    name = bytes(raw)
    return text_of(b"@" + name[1:] if name[:1] == b"\0" else name.rstrip(b"\0"))


class NamedPair(NamedTuple):
    """A connection over a Unix socket, and the name of one end: that of a server, if it listens."""

    name: str
    pair: UnixPair


def parse_unix_pair(body: memoryview) -> NamedPair | None:
    """Return a connection of a listing by an end with a name; raises ParseError."""
    if len(body) < _UNIX.size:
        raise ParseError("sock_diag", "no Unix socket", bytes(body[:8]))
    attributes = dict(parse_attributes(body[_UNIX.size :]))
    name, peer = attributes.get(UNIX_DIAG_NAME), attributes.get(UNIX_DIAG_PEER)
    # connecting sockets mostly have no name, and those of socketpair(2) never
    if not name or peer is None or len(peer) < _UNIX_NUMBER.size:
        return None
    queue = attributes.get(UNIX_DIAG_RQLEN)
    has_queue = queue is not None and len(queue) >= _UNIX_NUMBER.size
    pair = UnixPair(
        server=_UNIX.unpack_from(body)[4],
        client=_UNIX_NUMBER.unpack_from(peer)[0],
        unread_bytes=_UNIX_NUMBER.unpack_from(queue)[0] if queue and has_queue else 0,
    )
    return NamedPair(_unix_name(name), pair)


class RecordedDiag:
    """Lists TCP sockets from a recording of the kernel's answer, kept in a file below a root."""

    lost = 0
    sees_ends = True

    def __init__(self, root: Root) -> None:
        self._root = root

    def list_tcp(self) -> Iterator[SocketReading]:
        """Yield every TCP socket; raises OSError and ParseError."""
        for message in parse_messages(self._root.read(RECORDED)):
            yield parse_inet(message.body, "tcp")

    def list_ended(self) -> Iterator[SocketReading]:
        """Yield nothing: a recording holds no announcements."""
        return iter(())

    def close(self) -> None:
        """Close nothing."""


def _address(raw: memoryview) -> str:
    return str(ipaddress.ip_address(bytes(raw)))


class SocketDiag:
    """Lists sockets; raises OSError where the kernel does not offer it."""

    def __init__(self) -> None:
        self._link = NetlinkSocket(NETLINK_SOCK_DIAG)
        self._ends = self._listen()
        # how the kernel wants each socket of the newest listing to be named
        self._requests: dict[tuple[object, ...], bytes] = {}

    def list_tcp(self) -> Iterator[SocketReading]:
        """Yield every TCP socket; raises OSError and ParseError."""
        with_info = 1 << (INET_DIAG_INFO - 1)
        body = _TCP_REQUEST.pack(socket.AF_INET, 0, 0, with_info, ALL_STATES, 0)
        self._requests.clear()
        for message in self._link.request(TCPDIAG_GETSOCK, NLM_F_DUMP, body):
            reading = parse_inet(message.body, "tcp")
            self._requests[reading.key] = _ONE_REQUEST.pack(
                message.body[0],
                socket.IPPROTO_TCP,
                with_info,
                0,
                ALL_STATES,
                bytes(message.body[SOCKET_ID]),
            )
            yield reading

    def ask(self, known: SocketReading) -> SocketReading | None:
        """Return a TCP socket of the newest listing as it is now, None when it is gone.

        The kernel looks it up by its ends, which takes microseconds, where a listing walks through
        all of a table whose size goes with the memory. Raises OSError and ParseError.
        """
        request = self._requests.get(known.key)
        if request is None:
            return None
        try:
            for message in self._link.request(SOCK_DIAG_BY_FAMILY, 0, request):
                inet = parse_inet(message.body, "tcp", known.facts)
                return inet if inet.key == known.key else None
        except FileNotFoundError:
            return None
        return None

    def list_udp(self) -> Iterator[SocketReading]:
        """Yield every UDP socket; raises OSError and ParseError."""
        for family in FAMILIES.values():
            body = _INET_REQUEST.pack(family, socket.IPPROTO_UDP, 0, 0, ALL_STATES)
            for message in self._link.request(SOCK_DIAG_BY_FAMILY, NLM_F_DUMP, body):
                yield parse_inet(message.body, "udp")

    def list_unix(self) -> Iterator[SocketReading]:
        """Yield every listening Unix socket; raises OSError and ParseError."""
        body = _UNIX_REQUEST.pack(socket.AF_UNIX, 0, 0, LISTEN_ONLY, 0, UDIAG_SHOW_NAME, 0)
        for message in self._link.request(SOCK_DIAG_BY_FAMILY, NLM_F_DUMP, body):
            yield parse_unix(message.body)

    def list_unix_pairs(self) -> Iterator[NamedPair]:
        """Yield connections over Unix sockets by ends with a name; raises OSError, ParseError."""
        shown = UDIAG_SHOW_NAME | UDIAG_SHOW_PEER | UDIAG_SHOW_RQLEN
        body = _UNIX_REQUEST.pack(socket.AF_UNIX, 0, 0, ESTABLISHED_ONLY, 0, shown, 0)
        for message in self._link.request(SOCK_DIAG_BY_FAMILY, NLM_F_DUMP, body):
            pair = parse_unix_pair(message.body)
            if pair is not None:
                yield pair

    def list_ended(self) -> Iterator[SocketReading]:
        """Yield the TCP sockets destroyed since the last call; raises OSError and ParseError."""
        ended: Iterator[Message] = self._ends.pending() if self._ends else iter(())
        for message in ended:
            if message.kind == SOCK_DIAG_BY_FAMILY:
                yield parse_inet(message.body, "tcp")

    @property
    def lost(self) -> int:
        """Number of dropped announcements of destroyed sockets."""
        return self._ends.lost if self._ends else 0

    @property
    def sees_ends(self) -> bool:
        """Whether destroyed sockets are announced, which takes the administrator."""
        return self._ends is not None

    def close(self) -> None:
        """Close both sockets."""
        self._link.close()
        if self._ends:
            self._ends.close()

    def _listen(self) -> NetlinkSocket | None:
        groups = 1 << (GROUP_TCP_DESTROY - 1) | 1 << (GROUP_TCP6_DESTROY - 1)
        try:
            return NetlinkSocket(NETLINK_SOCK_DIAG, groups, receive_buffer_bytes=1 << 20)
        except PermissionError:
            return None
