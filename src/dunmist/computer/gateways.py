"""Read if the gateway of each link answers, from the kernel's neighbour table.

Sources: proc_pid_net(5) for ``net/route``, ``net/ipv6_route`` and ``net/arp``; rtnetlink(7) for
the neighbour's state (``include/uapi/linux/neighbour.h``). A gateway that was asked for its
hardware address and stays silent is *failed*: it is off, or the cable or radio before it is.
"""

import ipaddress
import socket
import struct
from typing import Literal

import msgspec

from dunmist.computer.netlink import NLM_F_DUMP, NetlinkSocket, parse_attributes
from dunmist.computer.parsing import ParseError, lines_of, text_of
from dunmist.computer.root import Root, reason_of

SUBJECT = "gateways"
NETLINK_ROUTE, RTM_GETNEIGH = 0, 30
NDA_DST = 1
_NEIGHBOUR = struct.Struct("=BxxxiHBB")  # family, link, state, flags, type
# NUD_INCOMPLETE is asked for the first time; NUD_FAILED has not answered
INCOMPLETE, FAILED = 0x01, 0x20
SILENT, ANSWERS = INCOMPLETE | FAILED, 0xDE
# a flag of net/arp: its hardware address is known
ARP_COMPLETE = 0x2
# flag of a route: by a gateway (include/uapi/linux/route.h)
RTF_GATEWAY = 0x2
GATEWAYS_MOST = 16

GatewayState = Literal["answers", "silent", "not-asked"]


class Gateway(msgspec.Struct, frozen=True):
    """The next computer on the way to all other networks."""

    link: str
    address: str
    state: GatewayState


def parse_gateways(data: bytes) -> list[tuple[str, str]]:
    """Return link and address of each gateway of a default route in ``net/route``."""
    found = []
    for line in lines_of(data)[1:]:
        fields = line.split()
        if len(fields) > 7 and fields[1] == fields[7] == b"00000000":
            try:
                flags, raw = int(fields[3], 16), bytes.fromhex(fields[2].decode("ascii"))
            except ValueError as error:
                raise ParseError("/proc/net/route", "expected numbers", line) from error
            if flags & RTF_GATEWAY and len(raw) == 4:
                # in the byte order of the machine, and every machine here is little-endian
                found.append((text_of(fields[0]), str(ipaddress.IPv4Address(raw[::-1]))))
    return found


def parse_gateways_6(data: bytes) -> list[tuple[str, str]]:
    """Return the same of ``net/ipv6_route``."""
    found = []
    for line in lines_of(data):
        fields = line.split()
        if len(fields) > 9 and fields[0] == b"0" * 32 and fields[1] == b"00":
            try:
                address = ipaddress.IPv6Address(bytes.fromhex(fields[4].decode("ascii")))
            except ValueError as error:
                raise ParseError("/proc/net/ipv6_route", "expected an address", line) from error
            if int(address):
                found.append((text_of(fields[9]), str(address)))
    return found


def parse_arp(data: bytes) -> dict[tuple[str, str], GatewayState]:
    """Return the facts of each neighbour in ``net/arp``, by link and address."""
    states: dict[tuple[str, str], GatewayState] = {}
    for line in lines_of(data)[1:]:
        fields = line.split()
        if len(fields) < 6 or not fields[2].startswith(b"0x"):
            raise ParseError("/proc/net/arp", "expected six columns", line)
        is_known = int(fields[2], 16) & ARP_COMPLETE
        states[text_of(fields[5]), text_of(fields[0])] = "answers" if is_known else "silent"
    return states


def parse_neighbour(body: memoryview) -> tuple[int, str, GatewayState] | None:
    """Return link, address and state of one neighbour; None without an address."""
    if len(body) < _NEIGHBOUR.size:
        raise ParseError("rtnetlink", "no neighbour", bytes(body[:8]))
    _, link, state, _, _ = _NEIGHBOUR.unpack_from(body)
    address = dict(parse_attributes(body[_NEIGHBOUR.size :])).get(NDA_DST)
    if address is None or len(address) not in (4, 16):
        return None
    answer: GatewayState = (
        "silent" if state & SILENT else "answers" if state & ANSWERS else "not-asked"
    )
    return link, str(ipaddress.ip_address(bytes(address))), answer


def read_gateways(root: Root) -> list[Gateway]:
    """Return the gateways of all default routes, and whether they answer."""
    found = root.parse("proc/net/route", parse_gateways, SUBJECT, may_be_absent=True) or []
    found += root.parse("proc/net/ipv6_route", parse_gateways_6, SUBJECT, may_be_absent=True) or []
    if not found:
        return []
    states = _neighbours(root)
    return [
        Gateway(link, address, states.get((link, address), "not-asked"))
        for link, address in dict.fromkeys(found[:GATEWAYS_MOST])
    ]


def _neighbours(root: Root) -> dict[tuple[str, str], GatewayState]:
    if not root.is_this_computer:
        return root.parse("proc/net/arp", parse_arp, SUBJECT, may_be_absent=True) or {}
    states: dict[tuple[str, str], GatewayState] = {}
    try:
        with NetlinkSocket(NETLINK_ROUTE) as kernel:
            for message in kernel.request(RTM_GETNEIGH, NLM_F_DUMP, bytes(_NEIGHBOUR.size)):
                neighbour = parse_neighbour(message.body)
                if neighbour is not None:
                    link, address, state = neighbour
                    states[socket.if_indextoname(link), address] = state
    except OSError as error:
        root.note(SUBJECT, reason_of(error))
    except ParseError:
        root.note(SUBJECT, "garbled")
    return states
