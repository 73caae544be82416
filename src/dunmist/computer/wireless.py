"""Read the radio of each wireless link: signal, rates, and repeated frames.

Source: nl80211 over generic netlink (``include/uapi/linux/nl80211.h``). Everybody may ask. A driver
leaves out what it does not measure.
"""

import socket
import struct
from collections.abc import Iterator

import msgspec

from dunmist.computer.netlink import (
    GENERIC_HEADER,
    NETLINK_GENERIC,
    NLM_F_DUMP,
    NetlinkSocket,
    encode_attribute,
    find_family,
    parse_attributes,
)
from dunmist.computer.parsing import Counter, ParseError
from dunmist.computer.root import Root, reason_of

SUBJECT = "radio of wireless links"
# commands and attributes of include/uapi/linux/nl80211.h
NL80211_CMD_GET_STATION = 17
NL80211_ATTR_IFINDEX, NL80211_ATTR_STA_INFO = 3, 21
STA_INFO_SIGNAL, STA_INFO_TX_BITRATE, STA_INFO_TX_PACKETS, STA_INFO_TX_RETRIES = 7, 8, 10, 11
STA_INFO_TX_FAILED, STA_INFO_SIGNAL_AVG, STA_INFO_RX_BITRATE = 12, 13, 14
RATE_INFO_BITRATE, RATE_INFO_BITRATE32 = 1, 5
BITS_PER_S = 100_000  # rates are in units of 100 kbit/s
_U16, _U32 = struct.Struct("=H"), struct.Struct("=I")
_I8 = struct.Struct("=b")
LINKS_MOST = 16


class RadioLink(msgspec.Struct, frozen=True, omit_defaults=True):
    """The other end of a wireless link as its driver hears it; None is 'not measured'."""

    link: str
    signal_dbm: int | None = None  # the mean where the driver has one
    send_bits_per_s: int | None = None  # rate of the last frame
    receive_bits_per_s: int | None = None
    sent_frames: Counter | None = None
    retried_frames: Counter | None = None  # sent again, since the two met
    failed_frames: Counter | None = None  # given up


def parse_station(body: memoryview, link: str) -> RadioLink | None:
    """Return the station in a message; None if it has none."""
    attributes = dict(parse_attributes(body[GENERIC_HEADER.size :]))
    about = attributes.get(NL80211_ATTR_STA_INFO)
    if about is None:
        return None
    station = dict(parse_attributes(about))
    signal = station.get(STA_INFO_SIGNAL_AVG, station.get(STA_INFO_SIGNAL))
    return RadioLink(
        link=link,
        signal_dbm=_I8.unpack_from(signal)[0] if signal is not None and len(signal) else None,
        send_bits_per_s=_rate(station.get(STA_INFO_TX_BITRATE)),
        receive_bits_per_s=_rate(station.get(STA_INFO_RX_BITRATE)),
        sent_frames=_number(station.get(STA_INFO_TX_PACKETS)),
        retried_frames=_number(station.get(STA_INFO_TX_RETRIES)),
        failed_frames=_number(station.get(STA_INFO_TX_FAILED)),
    )


def _number(value: memoryview | None) -> int | None:
    return None if value is None or len(value) < _U32.size else int(_U32.unpack_from(value)[0])


def _rate(value: memoryview | None) -> int | None:
    if value is None:
        return None
    rates = dict(parse_attributes(value))
    wide, narrow = rates.get(RATE_INFO_BITRATE32), rates.get(RATE_INFO_BITRATE)
    if wide is not None and len(wide) >= _U32.size:
        return int(_U32.unpack_from(wide)[0]) * BITS_PER_S
    if narrow is not None and len(narrow) >= _U16.size:
        return int(_U16.unpack_from(narrow)[0]) * BITS_PER_S
    return None


def read_radio(root: Root) -> list[RadioLink]:
    """Return the other end of each wireless link of this computer; of an access point the first."""
    names = [
        name
        for name in root.names("sys/class/net")
        if root.exists(f"sys/class/net/{name}/phy80211")
    ]
    if not names:
        return []
    if not root.is_this_computer:
        root.note(SUBJECT, "absent")
        return []
    try:
        return list(_ask(names[:LINKS_MOST]))
    except OSError as error:
        root.note(SUBJECT, reason_of(error))
    except (ParseError, struct.error):
        root.note(SUBJECT, "garbled")
    return []


def _ask(names: list[str]) -> Iterator[RadioLink]:
    with NetlinkSocket(NETLINK_GENERIC) as kernel:
        family = find_family(kernel, "nl80211")
        for name in names:
            header = GENERIC_HEADER.pack(NL80211_CMD_GET_STATION, 0, 0)
            link = encode_attribute(NL80211_ATTR_IFINDEX, _U32.pack(socket.if_nametoindex(name)))
            answers = [
                parse_station(message.body, name)
                for message in kernel.request(family, NLM_F_DUMP, header + link)
            ]
            yield from [answer for answer in answers if answer is not None][:1]
