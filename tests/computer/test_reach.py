"""The way to other networks: gateways by the kernel's own word, and radio by crafted messages."""

import os
import shutil
import struct
import subprocess
import sys
import unittest

from hypothesis import given
from hypothesis import strategies as st

from dunmist.computer import Gateway, ParseError, RadioLink, gateways, wireless
from dunmist.computer.netlink import encode_attribute
from dunmist.diagnosis.findings import reach
from tests.diagnosis.test_findings import LINE, found, machine
from tests.handmade import examination, link

SPACE = "dm-reach"
ASK = """
import json, socket, sys, time
from pathlib import Path
from dunmist.computer import Root, read_gateways
socket.socket(socket.AF_INET, socket.SOCK_DGRAM).sendto(b"x", ("192.0.2.9", 9))
end = time.monotonic() + 10
while (found := read_gateways(Root(Path("/"))))[0].state != sys.argv[1]:
    assert time.monotonic() < end, found
    time.sleep(0.2)
print(found[0].link, found[0].address)
"""


class Texts(unittest.TestCase):
    ROUTES = (
        b"Iface\tDestination\tGateway\tFlags\tRefCnt\tUse\tMetric\tMask\tMTU\tWindow\tIRTT\n"
        b"eth0\t00000000\t010200C0\t0003\t0\t0\t0\t00000000\t0\t0\t0\n"
        b"eth0\t000200C0\t00000000\t0001\t0\t0\t0\t00FFFFFF\t0\t0\t0\n"
        b"ppp0\t00000000\t00000000\t0001\t0\t0\t0\t00000000\t0\t0\t0\n"
    )
    ROUTES_6 = (
        b"00000000000000000000000000000000 00 " + b"0" * 32 + b" 00 "
        b"fd000000000000000000000000000001 00000400 00000001 00000000 00000003 eth0\n"
        b"fd000000000000000000000000000000 40 " + b"0" * 32 + b" 00 " + b"0" * 32 + b" 00000100"
        b" 00000001 00000000 00000001 eth0\n"
    )
    ARP = (
        b"IP address  HW type  Flags  HW address         Mask  Device\n"
        b"192.0.2.1   0x1      0x2    02:fc:00:00:00:05  *     eth0\n"
        b"192.0.2.7   0x1      0x0    00:00:00:00:00:00  *     eth0\n"
    )

    def test_gateways_of_default_routes_and_what_is_known_of_them(self):
        self.assertEqual([("eth0", "192.0.2.1")], gateways.parse_gateways(self.ROUTES))
        self.assertEqual([("eth0", "fd00::1")], gateways.parse_gateways_6(self.ROUTES_6))
        known = gateways.parse_arp(self.ARP)
        self.assertEqual("answers", known["eth0", "192.0.2.1"])
        self.assertEqual("silent", known["eth0", "192.0.2.7"])
        for parse, data in (
            (gateways.parse_gateways, self.ROUTES.replace(b"010200C0", b"tern")),
            (gateways.parse_gateways_6, self.ROUTES_6.replace(b"fd00", b"tern")),
            (gateways.parse_arp, self.ARP + b"192.0.2.9\n"),
        ):
            with self.assertRaises(ParseError):
                parse(data)


@unittest.skipUnless(os.geteuid() == 0 and shutil.which("ip"), "needs the administrator and ip(8)")
class OwnKernel(unittest.TestCase):
    def ip(self, *words):
        subprocess.run(["ip", *words], check=True)

    def test_one_that_is_not_there_is_silent_and_one_that_is_answers(self):
        subprocess.run(["ip", "netns", "del", SPACE], check=False, stderr=subprocess.DEVNULL)
        self.ip("netns", "add", SPACE)
        self.addCleanup(self.ip, "netns", "del", SPACE)
        self.ip(*f"-n {SPACE} link add near0 type veth peer name far0".split())
        self.ip(*f"-n {SPACE} addr add 10.9.0.1/24 dev near0".split())
        for name in ("near0", "far0"):
            self.ip(*f"-n {SPACE} link set {name} up".split())
        self.ip(*f"-n {SPACE} route add default via 10.9.0.77".split())
        ask = ["ip", "netns", "exec", SPACE, sys.executable, "-c", ASK]
        done = subprocess.run([*ask, "silent"], check=True, capture_output=True, text=True)
        self.assertEqual("near0 10.9.0.77\n", done.stdout)
        self.ip(*f"-n {SPACE} neigh replace 10.9.0.77 lladdr 02:00:5e:10:00:01 dev near0".split())
        subprocess.run([*ask, "answers"], check=True, capture_output=True)


class Radio(unittest.TestCase):
    def test_signal_rates_and_repeated_frames(self):
        rate = encode_attribute(wireless.RATE_INFO_BITRATE32, struct.pack("=I", 866))
        old = encode_attribute(wireless.RATE_INFO_BITRATE, struct.pack("=H", 65))
        about = (
            encode_attribute(wireless.STA_INFO_SIGNAL, struct.pack("=b", -80))
            + encode_attribute(wireless.STA_INFO_SIGNAL_AVG, struct.pack("=b", -78))
            + encode_attribute(wireless.STA_INFO_TX_BITRATE, rate)
            + encode_attribute(wireless.STA_INFO_RX_BITRATE, old)
            + encode_attribute(wireless.STA_INFO_TX_PACKETS, struct.pack("=I", 400))
            + encode_attribute(wireless.STA_INFO_TX_RETRIES, struct.pack("=I", 100))
        )
        body = bytes(4) + encode_attribute(wireless.NL80211_ATTR_STA_INFO, about)
        self.assertEqual(
            RadioLink("wlan0", -78, 86_600_000, 6_500_000, 400, 100, None),
            wireless.parse_station(memoryview(body), "wlan0"),
        )

    @given(st.binary(max_size=120))
    def test_any_bytes_are_an_answer_or_an_error(self, data):
        for parse in (lambda body: wireless.parse_station(body, "x"), gateways.parse_neighbour):
            try:
                parse(memoryview(data))
            except ParseError:
                continue


class Findings(unittest.TestCase):
    def exam(self, gateways=(), radio=()):
        near = link(LINE, name="wlan0")
        exam = examination(machine(), links=[near], outward_links=[near])
        exam.series.surveyed.gateways = list(gateways)
        exam.series.surveyed.radio = {station.link: station for station in radio}
        return exam

    def test_a_silent_gateway_is_grave_only_where_there_is_no_other(self):
        silent = Gateway("wlan0", "fd00::1", "silent")
        (alone,) = found(reach, self.exam([silent]))
        self.assertEqual(("urgent", "fd00::1"), (alone.severity, alone.subject))
        (beside,) = found(reach, self.exam([silent, Gateway("wlan0", "10.9.0.2", "answers")]))
        self.assertEqual("note", beside.severity)
        self.assertEqual([], found(reach, self.exam([Gateway("wlan0", "10.9.0.2", "not-asked")])))

    def test_a_weak_signal(self):
        for signal_dbm, expected in ((-60, []), (-75, ["radio-weak"]), (None, [])):
            radio = [RadioLink("wlan0", signal_dbm)]
            kinds = [finding.kind for finding in found(reach, self.exam(radio=radio))]
            self.assertEqual(expected, kinds)


if __name__ == "__main__":
    unittest.main()
