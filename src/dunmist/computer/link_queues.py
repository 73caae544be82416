"""Read addresses and send queues of links over rtnetlink(7).

A packet waits in the queue of a link (tc(8), ``include/uapi/linux/gen_stats.h``) while the line, or
a limit set on it, takes no more. A queue that is hardly ever empty is a full link, whatever speed
its driver publishes.
"""

import ipaddress
import socket
import struct
from collections import defaultdict
from collections.abc import Iterator

import msgspec

from dunmist.computer.netlink import NLM_F_DUMP, NetlinkSocket, parse_attributes
from dunmist.computer.parsing import Counter, ParseError
from dunmist.computer.root import Root, reason_of

SUBJECT = "queues of network links"
# include/uapi/linux/netlink.h
NETLINK_ROUTE = 0
# include/uapi/linux/rtnetlink.h
RTM_GETADDR, RTM_GETQDISC = 22, 38
# include/uapi/linux/if_addr.h
IFA_ADDRESS, IFA_LOCAL = 1, 2
# include/uapi/linux/rtnetlink.h and gen_stats.h
TCA_KIND, TCA_STATS2, TCA_STATS_QUEUE = 1, 7, 3
# there is none, or it sends at a moment of its choice: what waits says nothing of the line
NOT_TELLING = frozenset((b"noqueue", b"fq", b"etf", b"netem", b"taprio"))
# the parent of a queue that packets enter first, include/uapi/linux/pkt_sched.h
TC_H_ROOT = 0xFFFFFFFF
_ADDRESS = struct.Struct("=BBBBI")  # family, prefix length, flags, scope, link
_QUEUE_ABOUT = struct.Struct("=BxxxiIII")  # family, link, handle, parent, info
_QUEUE = struct.Struct("=IIIII")  # packets, bytes, drops, requeues, overlimits
# family, then an empty struct: all of them
_ALL_ADDRESSES, _ALL_QUEUES = bytes(_ADDRESS.size), bytes(_QUEUE_ABOUT.size)


class QueueSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Send queue of a link, and the packets that it has dropped."""

    link: str
    waiting_bytes: Counter
    drops: Counter


def parse_address(body: memoryview) -> tuple[int, str]:
    """Return the number of a link and one address of it; raises ParseError."""
    if len(body) < _ADDRESS.size:
        raise ParseError("rtnetlink", "no address", bytes(body[:8]))
    _, _, _, _, link = _ADDRESS.unpack_from(body)
    attributes = dict(parse_attributes(body[_ADDRESS.size :]))
    # on a line with two ends the local address is another one than the address
    raw = attributes.get(IFA_LOCAL, attributes.get(IFA_ADDRESS))
    if raw is None or len(raw) not in (4, 16):
        raise ParseError("rtnetlink", "an address without one", bytes(body[:8]))
    return link, str(ipaddress.ip_address(bytes(raw)))


def parse_queue(body: memoryview) -> tuple[int, int, int] | None:
    """Return link, bytes that wait and drops of a queue.

    None of one within another one, and of one that tells nothing of the line.
    """
    if len(body) < _QUEUE_ABOUT.size:
        raise ParseError("rtnetlink", "no queue", bytes(body[:8]))
    _, link, _, parent, _ = _QUEUE_ABOUT.unpack_from(body)
    if parent != TC_H_ROOT:
        return None
    attributes = dict(parse_attributes(body[_QUEUE_ABOUT.size :]))
    if bytes(attributes.get(TCA_KIND, b"")).rstrip(b"\0") in NOT_TELLING:
        return None
    figures = dict(parse_attributes(attributes.get(TCA_STATS2, memoryview(b"")))).get(
        TCA_STATS_QUEUE
    )
    if figures is None or len(figures) < _QUEUE.size:
        return None
    _, waiting, drops, _, _ = _QUEUE.unpack_from(figures)
    return link, waiting, drops


def read_addresses(root: Root) -> dict[str, list[str]]:
    """Return the addresses of each link of this computer by name."""
    addresses: dict[str, list[str]] = defaultdict(list)
    if not root.is_this_computer:
        return addresses
    try:
        with NetlinkSocket(NETLINK_ROUTE) as kernel:
            for message in kernel.request(RTM_GETADDR, NLM_F_DUMP, _ALL_ADDRESSES):
                link, address = parse_address(message.body)
                addresses[socket.if_indextoname(link)].append(address)
    except OSError as error:
        root.note("addresses of network links", reason_of(error))
    except ParseError:
        root.note("addresses of network links", "garbled")
    return addresses


class LinkQueues:
    """Reads the outermost queue of each link of this computer."""

    def __init__(self, root: Root) -> None:
        self._root = root
        self._kernel: NetlinkSocket | None = None
        self._names: dict[int, str] = {}
        if root.is_this_computer:
            try:
                self._kernel = NetlinkSocket(NETLINK_ROUTE)
            except OSError as error:
                root.note(SUBJECT, reason_of(error))

    def read(self) -> list[QueueSample]:
        """Return the queues of now; a link that can be asked has one."""
        try:
            return list(self._read())
        except OSError as error:
            self._root.note(SUBJECT, reason_of(error))
        except ParseError:
            self._root.note(SUBJECT, "garbled")
        return []

    def close(self) -> None:
        """Close the socket."""
        if self._kernel:
            self._kernel.close()

    def _read(self) -> Iterator[QueueSample]:
        if self._kernel is None:
            return
        for message in self._kernel.request(RTM_GETQDISC, NLM_F_DUMP, _ALL_QUEUES):
            queue = parse_queue(message.body)
            if queue is not None and (name := self._name(queue[0])):
                yield QueueSample(name, *queue[1:])

    def _name(self, link: int) -> str | None:
        if link not in self._names:
            try:
                self._names[link] = socket.if_indextoname(link)
            except OSError:
                return None  # it went away since the kernel listed it
        return self._names[link]
