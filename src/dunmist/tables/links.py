"""Topic ``links``: every network link, and how TCP and UDP fared."""

from collections.abc import Iterator

from dunmist.advice import Judged
from dunmist.series import signal_dbm
from dunmist.tables.declared import Column, Row, Table, Width

BITS = 8.0  # of a byte
LEVELS = ("TcpCurrEstab",)  # among the counters, but no counter
# what the kernel counts (RFC 4022, RFC 4113, Documentation/networking/snmp_counter.rst)
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


def _links(judged: Judged) -> Iterator[Row]:
    surveyed = judged.series.surveyed
    gateways = {gateway.link: gateway for gateway in reversed(surveyed.gateways)}
    for link in judged.series.devices.links:
        about, radio = link.about, surveyed.radio.get(link.name)
        gateway = gateways.get(link.name)
        yield {
            "link": link.name,
            "state": about.state if about else None,
            "default_route": about.is_default if about else None,
            "physical": about.physical if about else None,
            "wireless": about.wireless if about else None,
            "signal_dbm": signal_dbm(link, surveyed.radio),
            "radio_bits_per_s": radio.send_bits_per_s if radio else None,
            "gateway": gateway.address if gateway else None,
            "gateway_state": gateway.state if gateway else None,
            "speed_bits_per_s": about.speed_bits_per_s if about else None,
            "duplex": about.duplex if about else None,
            "received_bytes_per_s": link.received_bytes_per_s.mean(),
            "sent_bytes_per_s": link.sent_bytes_per_s.mean(),
            "received_bits_per_s": BITS * link.received_bytes_per_s.mean(),
            "sent_bits_per_s": BITS * link.sent_bytes_per_s.mean(),
            "used_share": None if link.used is None else link.used.mean(),
            "errors": round(link.errors_per_s.total()),
            "drops": round(link.drops_per_s.total()),
        }


LINKS = Table(
    "links",
    "the default route first",
    (
        Column("link", "text", "network link as the kernel calls it", answers=("name",)),
        Column("state", "text", "up, down or unknown", answers=("state",)),
        Column("default_route", "flag", "whether it leads to everywhere else"),
        Column("physical", "flag", "whether there is hardware behind it"),
        Column("wireless", "flag", "whether it is a radio"),
        Column("signal_dbm", "figure", "strength of the signal"),
        Column("radio_bits_per_s", "bits/s", "rate of the last frame that was sent"),
        Column("gateway", "text", "the next computer on the way to all others", Width(most=40)),
        Column("gateway_state", "text", "whether it answers", title="gateway state"),
        Column("speed_bits_per_s", "bits/s", "speed that it was set up for"),
        Column("duplex", "text", "whether both directions go at once"),
        Column("received_bytes_per_s", "bytes/s", "received"),
        Column("sent_bytes_per_s", "bytes/s", "sent"),
        Column("received_bits_per_s", "bits/s", "received, in the unit of the speed"),
        Column("sent_bits_per_s", "bits/s", "sent, in the unit of the speed"),
        Column(
            "used_share", "share", "the fuller direction's share of the speed", answers=("least",)
        ),
        Column("errors", "number", "broken frames and collisions over the capture"),
        Column("drops", "number", "frames dropped over the capture"),
    ),
    _links,
    shown=(
        "link",
        "used_share",
        "received_bits_per_s",
        "sent_bits_per_s",
        "speed_bits_per_s",
        "errors",
        "drops",
        "state",
        "default_route",
        "wireless",
        "signal_dbm",
        "gateway",
        "gateway_state",
        "duplex",
    ),
    order=("default_route", "physical"),
)


def _transport(judged: Judged) -> Iterator[Row]:
    for word, count in judged.series.devices.tcp.items():
        if word not in LEVELS:
            yield {
                "what": COUNTED.get(word, word),
                "counter": word,
                "count": count,
                "times_per_s": count / judged.series.line.measured_s,
            }


TRANSPORT = Table(
    "transport",
    "the kernel's counters of TCP and UDP (names of RFC 4022)",
    (
        Column("what", "text", "what was counted", Width(most=52)),
        Column("counter", "text", "the kernel's word for it"),
        Column("count", "number", "over the capture"),
        Column("times_per_s", "a second", "how often"),
    ),
    _transport,
    shown=("what", "count", "times_per_s"),
)
