"""Network links: what each moved, its speed and state, and how TCP fares.

Sources: proc_pid_net(5) for ``net/dev``, ``Documentation/ABI/testing/sysfs-class-net``,
``Documentation/networking/statistics.rst``, ``net/snmp`` and ``net/netstat`` (RFC 4022 names),
``net/route``, ``net/wireless``.
"""

import re

import msgspec

from dunmist.computer.link_queues import read_addresses
from dunmist.computer.parsing import (
    Counter,
    ParseError,
    counter_of,
    lines_of,
    parse_number,
    parse_text,
    text_of,
)
from dunmist.computer.root import Root

SUBJECT = "network links"
LOOPBACK_TYPE = 772  # include/uapi/linux/if_arp.h
# counters of the whole computer that tell trouble
TCP_COUNTERS = {
    "Tcp": (
        "ActiveOpens",
        "PassiveOpens",
        "InSegs",
        "OutSegs",
        "RetransSegs",
        "InErrs",
        "CurrEstab",
    ),
    "Udp": ("InErrors", "RcvbufErrors", "SndbufErrors"),
    "TcpExt": ("ListenOverflows", "ListenDrops", "TCPTimeouts"),
}
_TCP_WORDS = {
    group.encode(): frozenset(name.encode() for name in names)
    for group, names in TCP_COUNTERS.items()
}
# a figure that the driver has renewed ends in a full stop
_WIRELESS = re.compile(rb"^\s*([^:\s]+):\s+\S+\s+(-?\d+)\.?\s+(-?\d+)\.?\s", re.M)


class LinkSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Counters of one link since it was made, written when they changed."""

    name: str
    received_bytes: Counter  # columns of /proc/net/dev; they may wrap at 32 bits with old drivers
    received_packets: Counter
    receive_errors: Counter
    receive_drops: Counter  # by the kernel, for want of buffers
    sent_bytes: Counter
    sent_packets: Counter
    send_errors: Counter  # with carrier losses, by the driver's word
    send_drops: Counter
    collisions: Counter  # on half-duplex links only


class Link(msgspec.Struct, frozen=True, omit_defaults=True):
    """Facts of a link; None is 'not published'."""

    name: str
    loopback: bool = False
    physical: bool = False  # has a device behind it
    wireless: bool = False
    speed_bits_per_s: int | None = None  # None if the driver does not tell, as with wireless
    duplex: str | None = None
    state: str | None = None  # operstate (Documentation/networking/operstates.rst)
    mtu_bytes: int | None = None
    signal_dbm: int | None = None  # of the wireless link, about -30 near and -80 at the edge
    is_default: bool = False  # the default route leaves here
    addresses: list[str] = []


def parse_net_dev(data: bytes) -> list[LinkSample]:
    """Return the counters of every link; raises ParseError."""
    samples = []
    # two lines of headings
    for line in lines_of(data)[2:]:
        # an alias has a colon of its own, and large counters stand right behind it
        name, colon, rest = line.rpartition(b":")
        fields = rest.split()
        if not colon or len(fields) < 16:
            raise ParseError("/proc/net/dev", "expected a name and 16 counters", line)
        count = [counter_of(field, "/proc/net/dev", text_of(name)) for field in fields[:16]]
        samples.append(
            LinkSample(
                text_of(name.strip()),
                count[0],
                count[1],
                count[2],
                count[3],
                count[8],
                count[9],
                count[10],
                count[11],
                count[13],
            )
        )
    return samples


def parse_tcp_counters(data: bytes) -> dict[str, int]:
    """Return the counters of ``net/snmp`` or ``net/netstat`` that are kept; raises ParseError."""
    lines = lines_of(data)
    tcp_counters: dict[str, int] = {}
    # a line of names, then one of values, group by group
    for names, values in zip(lines[::2], lines[1::2], strict=False):
        group, _, rest = names.partition(b":")
        wanted = _TCP_WORDS.get(group)
        if wanted is None:
            continue
        for name, value in zip(rest.split(), values.split()[1:], strict=False):
            if name in wanted:
                word = text_of(group + name)
                tcp_counters[word] = counter_of(value, "/proc/net/snmp", word)
    if not tcp_counters:
        raise ParseError("/proc/net/snmp", "expected pairs of names and values", data)
    return tcp_counters


def parse_default_links(data: bytes) -> list[str]:
    """Return the links that carry a default route in ``net/route``."""
    rows = [line.split() for line in lines_of(data)[1:]]
    return [text_of(row[0]) for row in rows if len(row) > 7 and row[1] == row[7] == b"00000000"]


def parse_default_links_6(data: bytes) -> list[str]:
    """Return the links that carry a default route in ``net/ipv6_route``; none is loopback."""
    rows = [line.split() for line in lines_of(data)]
    return [
        text_of(row[9])
        for row in rows
        if len(row) > 9 and row[0] == b"0" * 32 and row[1] == b"00" and row[9] != b"lo"
    ]


def parse_wireless(data: bytes) -> dict[str, int]:
    """Return the signal of each wireless link in dBm; a driver without one is left out."""
    return {
        text_of(name): int(level)
        for name, _, level in _WIRELESS.findall(data)
        # some drivers give a bare quality, 0 to 100, or 256 less than they mean
        if -200 < int(level) < 0
    }


def read_links(root: Root) -> list[Link]:
    """Return every link that the kernel lists."""
    defaults = root.parse("proc/net/route", parse_default_links, "routes") or []
    defaults += (
        root.parse("proc/net/ipv6_route", parse_default_links_6, "routes", may_be_absent=True) or []
    )
    signals = root.parse("proc/net/wireless", parse_wireless, SUBJECT, may_be_absent=True) or {}
    addresses = read_addresses(root)
    return [
        _read_link(root, name, defaults, signals, addresses.get(name, []))
        for name in root.names("sys/class/net")
    ]


def _read_link(
    root: Root, name: str, defaults: list[str], signals: dict[str, int], addresses: list[str]
) -> Link:
    directory = f"sys/class/net/{name}"

    def number(file: str) -> int | None:
        # EINVAL is how the kernel answers for speed and duplex of a link that is down
        return root.parse(f"{directory}/{file}", parse_number, SUBJECT, may_be_silent=True)

    def text(file: str) -> str | None:
        return root.parse(f"{directory}/{file}", parse_text, SUBJECT, may_be_silent=True)

    speed = number("speed")
    return Link(
        name=name,
        loopback=number("type") == LOOPBACK_TYPE,
        physical=root.exists(f"{directory}/device"),
        wireless=root.exists(f"{directory}/wireless") or root.exists(f"{directory}/phy80211"),
        # -1 is how drivers say that they do not know
        speed_bits_per_s=speed * 1_000_000 if speed and speed > 0 else None,
        duplex=text("duplex"),
        state=text("operstate"),
        mtu_bytes=number("mtu"),
        signal_dbm=signals.get(name),
        is_default=name in defaults,
        addresses=addresses,
    )
