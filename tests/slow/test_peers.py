"""Which side limits a connection: programs of known behaviour in two network namespaces."""

import json
import os
import shutil
import subprocess
import sys
import time
import unittest

from tests.program import InFolder, run

OURS, THEIRS = "10.77.31.1", "10.77.31.2"
SPACE, LINK, PEER = "dunmist-test", "dunmist-ours", "dunmist-theirs"
PORTS = {"auk": 4701, "tern": 4702, "skua": 4703, "gull": 4704}
# the other end: reads as it can, reads slowly, sends as it can, sends a little
THEIR_END = """
import os, socket, sys, threading, time
def serve(port, act):
    server = socket.create_server((sys.argv[1], port))
    os.write(1, b"ready\\n")  # a line of one thread stays whole
    while True:
        act(server.accept()[0])
def read(taken):
    while taken.recv(1 << 16): pass
def read_slowly(taken):
    while taken.recv(1 << 14): time.sleep(0.02)
def send(taken):
    block = bytes(1 << 16)
    while True: taken.sendall(block)
def send_little(taken):
    while True: taken.sendall(bytes(100_000)); time.sleep(0.1)
acts = {"read": read, "slow": read_slowly, "send": send, "little": send_little}
for word in sys.argv[2:]:
    port, _, act = word.partition(":")
    threading.Thread(target=serve, args=(int(port), acts[act])).start()
"""
SEND = """
import socket, sys
end = socket.create_connection((sys.argv[1], int(sys.argv[2])))
block = bytes(1 << 16)
while True: end.sendall(block)
"""
SEND_LITTLE = """
import socket, sys, time
end = socket.create_connection((sys.argv[1], int(sys.argv[2])))
while True: end.sendall(bytes(100_000)); time.sleep(0.1)
"""
READ = """
import socket, sys
end = socket.create_connection((sys.argv[1], int(sys.argv[2])))
while end.recv(1 << 16): pass
"""
READ_SLOWLY = READ.replace("import socket, sys", "import socket, sys, time").replace(
    "end.recv(1 << 16): pass", "end.recv(1 << 14): time.sleep(0.02)"
)


@unittest.skipUnless(
    os.geteuid() == 0 and shutil.which("ip"), "needs the administrator and iproute2"
)
class TwoEnds(InFolder):
    measures_computer = True

    def setUp(self):
        super().setUp()
        self.addCleanup(subprocess.run, ["ip", "netns", "del", SPACE], stderr=subprocess.DEVNULL)
        self.addCleanup(subprocess.run, ["ip", "link", "del", LINK], stderr=subprocess.DEVNULL)
        within = ["ip", "netns", "exec", SPACE]
        try:
            for command in (
                ["ip", "netns", "add", SPACE],
                ["ip", "link", "add", LINK, "type", "veth", "peer", "name", PEER],
                ["ip", "link", "set", PEER, "netns", SPACE],
                ["ip", "addr", "add", f"{OURS}/24", "dev", LINK],
                ["ip", "link", "set", LINK, "up"],
                [*within, "ip", "addr", "add", f"{THEIRS}/24", "dev", PEER],
                [*within, "ip", "link", "set", PEER, "up"],
            ):
                subprocess.run(command, check=True, capture_output=True)
        except subprocess.CalledProcessError as error:
            self.skipTest(f"no network of its own: {error.stderr.decode().strip()}")

    def start(self, command, **options):
        child = subprocess.Popen(command, **options)
        self.addCleanup(child.wait)
        self.addCleanup(child.kill)
        return child

    def their_end(self, acts):
        words = [f"{PORTS[name]}:{act}" for name, act in acts.items()]
        script = self.folder / "theirs.py"
        script.write_text(THEIR_END)
        child = self.start(
            ["ip", "netns", "exec", SPACE, sys.executable, script, THEIRS, *words],
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
        )
        self.addCleanup(child.stdout.close)
        for _ in words:
            self.assertEqual("ready\n", child.stdout.readline())

    def our_ends(self, scripts):
        for name, script in scripts.items():
            path = self.folder / f"{name}.py"
            path.write_text(script)
            self.start([sys.executable, path, THEIRS, str(PORTS[name])])

    def told(self, seconds=8):
        """Return what is said of each program's peer."""
        time.sleep(1.0)
        capture = self.folder / "peers.jsonl.gz"
        run("capture", "-o", capture, "--for", f"{seconds}s", "--no-code", folder=self.folder)
        shown = json.loads(run("view", "doing", capture, "--json", folder=self.folder).stdout)
        return {
            row["application"].removesuffix(".py"): row["text"]
            for row in shown["doing"]
            if row["what"] == "peer" and row["name"] == THEIRS
        }

    def test_each_limiting_side_is_named(self):
        self.their_end({"auk": "slow", "tern": "read", "skua": "send", "gull": "little"})
        self.our_ends({"auk": SEND, "tern": SEND_LITTLE, "skua": READ_SLOWLY, "gull": READ})
        told = self.told()
        for name, expected in (
            ("auk", "the other end takes no more"),
            ("tern", "most of the time it has nothing to send"),
            ("skua", "it reads too slowly what arrives"),
            ("gull", "what limits it is the other end or the line"),
        ):
            with self.subTest(name):
                self.assertIn(expected, told.get(name, "nothing"))

    def test_a_narrow_line_is_the_line(self):
        shaped = ["tc", "qdisc", "add", "dev", LINK, "root"]
        shaped += ["tbf", "rate", "20mbit", "burst", "32k", "latency", "50ms"]
        try:
            subprocess.run(shaped, check=True, capture_output=True)
        except (OSError, subprocess.CalledProcessError):
            self.skipTest("no queue that limits a link")
        self.their_end({"auk": "read"})
        self.our_ends({"auk": SEND})
        self.assertIn("the line limits it", self.told().get("auk", "nothing"))


if __name__ == "__main__":
    unittest.main()
