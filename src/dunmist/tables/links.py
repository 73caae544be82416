"""Topic ``links``: every network link, and how TCP and UDP fared."""

from collections.abc import Iterator
from typing import NamedTuple

from dunmist.advice import Judged
from dunmist.computer import Gateway, Link, RadioLink
from dunmist.series import LinkSeries, signal_dbm
from dunmist.tables.declared import Column, Table, Width

BITS = 8.0  # of a byte
LEVELS = ("TcpCurrEstab",)  # among the counters, but no counter
# counters of the kernel (RFC 4022, RFC 4113, Documentation/networking/snmp_counter.rst)
COUNTED = {
    "TcpActiveOpens": "connections made",
    "TcpPassiveOpens": "connections taken",
    "TcpInSegs": "segments received",
    "TcpOutSegs": "segments sent",
    "TcpRetransSegs": "segments sent again",
    "TcpInErrs": "segments received damaged",
    "UdpInErrors": "datagrams that could not be delivered",
    "UdpRcvbufErrors": "datagrams lost for want of room to receive",
    "UdpSndbufErrors": "datagrams lost for want of room to send",
    "TcpExtListenOverflows": "connections refused: too many wait to be taken",
    "TcpExtListenDrops": "connections dropped before they were taken",
    "TcpExtTCPTimeouts": "waits for an answer that ran out",
}


class OneLink(NamedTuple):
    """One network link, with its radio and the gateway behind it, where there are any."""

    link: LinkSeries
    about: Link | None
    radio: RadioLink | None
    gateway: Gateway | None
    signal_dbm: float | None


def _links(judged: Judged) -> Iterator[OneLink]:
    surveyed = judged.series.surveyed
    gateways = {gateway.link: gateway for gateway in reversed(surveyed.gateways)}
    for link in judged.series.devices.links:
        radio, signal = surveyed.radio.get(link.name), signal_dbm(link, surveyed.radio)
        yield OneLink(link, link.about, radio, gateways.get(link.name), signal)


def _used_share(row: OneLink) -> float | None:
    return None if row.link.used is None else row.link.used.mean()


LINKS: Table[OneLink] = Table(
    "links",
    "the default route first",
    (
        Column("link", "text", "network link as the kernel calls it", lambda row: row.link.name,
            answers=("name",)),
        Column("state", "text", "up, down or unknown", lambda row: row.about and row.about.state,
            answers=("state",)),
        Column("default_route", "flag", "whether it leads to everywhere else",
            lambda row: row.about and row.about.is_default),
        Column("physical", "flag", "whether there is hardware behind it",
            lambda row: row.about and row.about.physical),
        Column("wireless", "flag", "whether it is a radio",
            lambda row: row.about and row.about.wireless),
        Column("signal_dbm", "figure", "strength of the signal"),
        Column("radio_bits_per_s", "bits/s", "rate of the last frame that was sent",
            lambda row: row.radio and row.radio.send_bits_per_s),
        Column("gateway", "text", "the next computer on the way to all others",
            lambda row: row.gateway and row.gateway.address, width=Width(most=40)),
        Column("gateway_state", "text", "whether it answers",
            lambda row: row.gateway and row.gateway.state, title="gateway state"),
        Column("speed_bits_per_s", "bits/s", "speed that it was set up for",
            lambda row: row.about and row.about.speed_bits_per_s),
        Column("duplex", "text", "whether both directions go at once",
            lambda row: row.about and row.about.duplex),
        Column("received_bytes_per_s", "bytes/s", "received",
            lambda row: row.link.received_bytes_per_s.mean()),
        Column("sent_bytes_per_s", "bytes/s", "sent", lambda row: row.link.sent_bytes_per_s.mean()),
        Column("received_bits_per_s", "bits/s", "received, in the unit of the speed",
            lambda row: BITS * row.link.received_bytes_per_s.mean()),
        Column("sent_bits_per_s", "bits/s", "sent, in the unit of the speed",
            lambda row: BITS * row.link.sent_bytes_per_s.mean()),
        Column("used_share", "share", "the fuller direction's share of the speed", _used_share,
            answers=("least",)),
        Column("errors", "number", "broken frames and collisions over the capture",
            lambda row: round(row.link.errors_per_s.total())),
        Column("drops", "number", "frames dropped over the capture",
            lambda row: round(row.link.drops_per_s.total())),
    ),
    _links,
    shown=("link", "used_share", "received_bits_per_s", "sent_bits_per_s", "speed_bits_per_s",
        "errors", "drops", "state", "default_route", "wireless", "signal_dbm", "gateway",
        "gateway_state", "duplex"),
    order=("default_route", "physical"),
)


class TransportCounter(NamedTuple):
    """One counter of TCP or UDP over the capture."""

    what: str
    counter: str
    times: float
    times_per_s: float


def _transport(judged: Judged) -> Iterator[TransportCounter]:
    for word, count in judged.series.devices.tcp.items():
        if word not in LEVELS:
            yield TransportCounter(
                COUNTED.get(word, word), word, count, count / judged.series.line.measured_s
            )


TRANSPORT: Table[TransportCounter] = Table(
    "transport",
    "the kernel's counters of TCP and UDP (names of RFC 4022)",
    (
        Column("what", "text", "what was counted", width=Width(most=52)),
        Column("counter", "text", "the kernel's word for it"),
        Column("count", "number", "over the capture", lambda row: row.times),
        Column("times_per_s", "a second", "how often"),
    ),
    _transport,
    shown=("what", "count", "times_per_s"),
)
