"""A remote computer: over SSH, by a file that the collector left, and hostile ones."""

import gzip
import json
import os
import shutil
import signal
import stat
import subprocess
import sys
import time
import unittest

import numpy as np

from dunmist.errors import WrongUsage
from dunmist.jobs.judge import judge
from dunmist.remote import Garbled, MemoryRoot, Mirror, RemoteClock, Stream, TooMuch
from dunmist.remote.collector_script import collector_script
from dunmist.remote.remote_paths import NOT_BY_SHELL, file_line
from dunmist.remote.ssh_transport import parse_host
from dunmist.sampling.pace import Plan, pace
from dunmist.simulation import ModelComputer, load_scenario
from dunmist.simulation.tree import ComputerTree
from tests import own_sshd
from tests.own_sshd import SSHD
from tests.program import BUSY, DUNMIST, InFolder, await_ticks, run

MARK = "0123456789abcdef"
BEGIN = f"@{MARK} begin 1 4242 1 100 1924952400 +0100 0\n"
STAT = "/proc/{0}/stat:{0} ({1}) S 1 1 1 0 -1 0 0 0 0 0 5 5 0 0 20 0 1 0 {2} 1000 10 " + "0 " * 28


# the last of 80 threads works; says its number
MANY_THREADS = """
import hashlib, threading, time
open("/proc/self/comm", "w").write("k) R 1 1 2 2 2")
for _ in range(79):
    threading.Thread(target=time.sleep, args=(99,), daemon=True).start()
def work():
    print(threading.get_native_id(), flush=True)
    data, until = bytes(1 << 24), time.monotonic() + 90
    while time.monotonic() < until:
        hashlib.sha256(data)
threading.Thread(target=work).start()
"""


def frames(*lines, mark=MARK):
    stream = Stream([line.encode("utf-8", "surrogateescape") for line in lines], mark)
    return stream, list(stream.frames())


def text(*lines, number=0):
    return [
        f"@{MARK} tick {number} 100.0{number}\n",
        *(f"{line}\n" for line in lines),
        f"@{MARK} end {number} 100.05\n",
    ]


class Hostile(unittest.TestCase):
    """What users of the remote computer put into names and contents stays what it is."""

    def shown(self, *lines):
        """Return the root that one frame of these lines gives."""
        root = MemoryRoot("far")
        self.addCleanup(root.close)
        for frame in frames(BEGIN, *text(*lines))[1]:
            Mirror(root).show(frame)
        return root

    def test_no_content_is_taken_for_another_line(self):
        forged = f"@{MARK} end 0 100.05"
        root = self.shown(
            STAT.format(7, "a", 50),
            "/proc/7/status:Uid:\t0",
            f"/proc/7/status:Name:\t{forged}",
            f"/proc/7/status:/proc/9/stat:9 (x) S {'0 ' * 48}",
            f"cmd:/proc/7/cmdline:sh\1-c\1\2{forged}\2/proc/9/stat:9 (x) S\2",
            "exe:lrwxrwxrwx 1 0 0 0 Nov 27 03:00 /proc/7/exe -> /tmp/x /proc/9/exe -> /bin/y",
            "/sys/fs/cgroup/a/cpu.max:b/cpu.max:max 100000",
        )
        self.assertEqual(["7"], root.names("proc"))
        command = root.read("proc/7/cmdline")
        self.assertEqual(f"sh\0-c\0\n{forged}\n/proc/9/stat:9 (x) S\n".encode(), command)
        self.assertEqual("/tmp/x /proc/9/exe -> /bin/y", root.link("proc/7/exe"))
        self.assertEqual(["cpu.max:b"], root.names("sys/fs/cgroup/a"))

    def test_only_known_whole_paths_are_accepted(self):
        root = self.shown(
            "/proc/../../../tmp/dunmist-escaped/stat:x",
            "/etc/../root/passwd:x",
            "dir:/sys/class/net/../../../x/device",
            "/proc/1/cwd/passwd:x",
            "/etc/shadow:x",
            "dir:/sys/class/net/../device",
            "/proc/7/root/etc/passwd:x",
            "/sys/block/../size:1",
            STAT.format(7, "a", 50),
            "/proc/7/status:Uid:\t0",
            "fd:/proc/7/fd:",
            "fd:lrwx 1 0 0 64 Nov 27 1 -> /etc",
            "/proc/7/exe/passwd:x",
            "/proc/7/fd/1/passwd:x",
            "df:/dev/sda1 100 50 50 50% /../../../tmp/x",
            "df:/dev/sda1 100 50 50 50% /..",
        )
        self.assertEqual(["7"], root.names("proc"))
        self.assertEqual(["fd", "stat", "status"], root.names("proc/7"))
        self.assertEqual(["1"], root.names("proc/7/fd"))
        self.assertEqual(["proc", "statvfs"], root.names(""))

    def test_the_collector_reads_nothing_that_is_not_accepted(self):
        """Each file that a run on this computer sends is one of the accepted paths."""
        done = subprocess.run(
            ["sh", "-s"],
            input=collector_script(MARK, 1, 0.1).encode(),
            capture_output=True,
            timeout=60,
            check=True,
        )
        sent = [line for line in done.stdout.splitlines() if line.startswith(b"/")]
        self.assertGreater(len(sent), 200)
        self.assertEqual([], [line for line in sent if not file_line().fullmatch(line)][:5])

    def test_a_number_that_is_used_again_is_another_process(self):
        root = MemoryRoot("far")
        mirror, uid = Mirror(root), "/proc/7/status:Uid:\t0"
        first = text(STAT.format(7, "old", 50), "cmd:/proc/7/cmdline:old\1x", uid)
        second = text(STAT.format(7, "new", 9000), number=1)
        third = text(STAT.format(7, "new", 9000), uid, number=2)
        # who it is comes with the next frame, and until then it is not there
        for frame, there in zip(
            frames(BEGIN, *first, *second, *third)[1], (True, False, True), strict=True
        ):
            mirror.show(frame)
            self.assertEqual(there, root.exists("proc/7/stat"))
        self.assertFalse(root.exists("proc/7/cmdline"))

    def test_a_thread_that_is_not_sent_any_more_is_not_there(self):
        root, task = MemoryRoot("far"), "/proc/7/task/{}/schedstat:5 6 7"
        mirror = Mirror(root)
        head = [STAT.format(7, "auk", 50), "/proc/7/status:Uid:\t0"]
        for number, tids in enumerate(((7, 8), (8,), (), (7,))):
            for frame in frames(BEGIN, *text(*head, *map(task.format, tids)))[1]:
                mirror.show(frame)
            self.assertEqual(sorted(map(str, tids)), root.names("proc/7/task"), number)

    def test_what_is_sent_is_bounded(self):
        """Totals, lines and command lines; what came before is good."""
        for name, lines in {
            "before a tick": ["/proc/uptime:1\n"] * 500_000,
            "in one tick": [*text()[:1], *["x\n"] * 500_000],
            "by many names": text(*(f"/sys/block/b{number}/size:1" for number in range(399_999))),
        }.items():
            with self.subTest(name), self.assertRaises((Garbled, TooMuch)):
                self.shown_raw(lines)
        begun = time.monotonic()
        root = self.shown(
            STAT.format(7, "a", 50),
            "/proc/7/status:Uid:\t0",
            *["cmd:/proc/7/cmdline:" + "x" * 100] * 300_000,
        )
        self.assertLessEqual(len(root.read("proc/7/cmdline")), 32 << 10)
        # joined once: as often as there are lines it would take an hour
        self.assertLess(time.monotonic() - begun, 60)

    def shown_raw(self, lines):
        stream = Stream([line.encode() for line in (BEGIN, *lines)], MARK)
        root = MemoryRoot("far")
        for frame in stream.frames():
            Mirror(root).show(frame)

    def test_a_beginning_that_no_collector_writes(self):
        for asked in ("0 100", "5 0", "5 9999999999"):
            with self.subTest(asked), self.assertRaises(Garbled):
                frames(f"@{MARK} begin 1 4242 {asked} 1924952400 +0100 0\n")
        for started, zone in (("999999999999", "+1400"), ("1924952400", "+2399"), ("0", "-2359")):
            with self.subTest(zone):
                begin = f"@{MARK} begin 1 4242 1 100 {started} {zone} 0\n"
                lines = [begin, f"@{MARK} tick 0 99999999999.00\n", f"@{MARK} end 0 1.00\n"]
                stream = Stream([line.encode() for line in lines], MARK)
                clock = RemoteClock(stream.begun, stream.frames(), Mirror(MemoryRoot("far")), list)
                self.assertTrue(clock.begin())
                self.assertLessEqual(clock.now().year, 9999)

    def test_greetings_are_passed_over_and_what_is_cut_off_is_left_out(self):
        stream, result = frames(
            "Welcome to skerrow!\n",
            "@dead begin 1 1 1 1 1 1 1\n",
            BEGIN,
            *text("/proc/uptime:100.00 1.00"),
            *text("x", number=1)[:2],
        )
        self.assertEqual([0], [frame.number for frame in result])
        self.assertFalse(stream.is_whole)
        with self.assertRaises(Garbled):
            frames("sh: not found\n")

    def test_hosts_that_are_none(self):
        self.assertEqual(("far", None), tuple(parse_host("far")))
        self.assertEqual(("me@far", 2222), tuple(parse_host("ssh://me@far:2222")))
        for name in ("-oProxyCommand=x", "me@-far", "a b", "ssh://far/x", "ssh://far:99999", ""):
            with self.subTest(name), self.assertRaises(WrongUsage):
                parse_host(name)


class Pace(unittest.TestCase):
    """Time comes in frames: each serves one tick, whenever it came."""

    def taken(self, every_s, *moments_s):
        begin = f"@{MARK} begin 1 4242 5 {round(100 * every_s)} 1924952400 +0100 0\n"
        lines = [
            begin,
            *(
                line
                for at_s in moments_s
                for line in (
                    f"@{MARK} tick 0 {100 + at_s:.2f}\n",
                    f"/proc/uptime:{100 + at_s:.2f} 1.00\n",
                    f"@{MARK} end 0 {100.01 + at_s:.2f}\n",
                )
            ),
        ]
        stream = Stream([line.encode() for line in lines], MARK)
        clock = RemoteClock(stream.begun, stream.frames(), Mirror(MemoryRoot("far")), list)
        self.assertTrue(clock.begin())
        plan = Plan(every_s * 5, every_s)
        return [
            (due.number, round(due.at_s, 2), due.missed) for due in pace(plan, clock, lambda: None)
        ]

    def test_one_that_is_late_is_not_taken_twice(self):
        self.assertEqual(
            [(0, 0.0, 0), (1, 2.05, 0), (3, 2.98, 1), (4, 4.01, 0), (5, 4.9, 0)],
            self.taken(1.0, 0, 2.05, 2.98, 4.01, 4.9),
        )

    def test_a_slow_pace_ends_too(self):
        wanted = [(number, 10.0 * number, 0) for number in range(6)]
        self.assertEqual(wanted, self.taken(10.0, *(at_s for _, at_s, _ in wanted)))

    def test_the_last_frame_is_not_taken_for_one_more(self):
        self.assertEqual([(0, 0.0, 0), (1, 1.0, 0), (2, 4.9, 0)], self.taken(1.0, 0, 1.0, 4.9))


class Carried(InFolder):
    """A file that the collector left is as good as a capture."""

    def collect(self, shell, ticks=3):
        script = collector_script(MARK, ticks, 0.5)
        done = subprocess.run(
            shell,
            input=script.encode(),
            capture_output=True,
            cwd=self.folder,
            timeout=60,
            check=True,
        )
        path = self.folder / "collected.txt"
        path.write_bytes(done.stdout)
        return path

    def test_each_shell_gives_the_same(self):
        shells = {
            "dash": ["dash", "-s"],
            "bash": ["bash", "--posix", "-s"],
            "busybox": ["busybox", "sh", "-s"],
        }
        missing = [name for name in shells if not shutil.which(name)]
        for name in shells.keys() - set(missing):
            with self.subTest(name):
                path = self.collect(shells[name])
                run("capture", "--from", path, "-o", "x.jsonl.gz", "--force", folder=self.folder)
                series = judge(self.folder / "x.jsonl.gz").series
                # a busy computer misses ticks
                self.assertIn(series.ticks, range(2, 5))
                own = [
                    process for process in series.processes.values() if process.pid == os.getpid()
                ]
                self.assertEqual([True], [bool(item.facts.command_line) for item in own])
                self.assertIsNotNone(series.sampler)
        if missing:
            self.skipTest(f"without {', '.join(missing)}: not in this system")

    def test_who_comes_later_is_known_like_who_was_there(self):
        script = self.folder / "late-tern.py"
        script.write_text(BUSY.format(90))
        for shell in (["dash", "-s"], ["bash", "--posix", "-s"], ["busybox", "sh", "-s"]):
            if not shutil.which(shell[0]):
                continue
            with self.subTest(shell[0]):
                path = self.folder / "late.txt"
                with path.open("wb") as file:
                    there = subprocess.Popen(shell, stdin=subprocess.PIPE, stdout=file)
                    there.stdin.write(collector_script(MARK, 8, 0.5).encode())
                    there.stdin.close()
                    first_end, until_s = f"@{MARK} end 0 ".encode(), time.monotonic() + 30
                    while first_end not in path.read_bytes() and time.monotonic() < until_s:
                        time.sleep(0.05)
                    late = subprocess.Popen([sys.executable, script, "--token", "secret77"])
                    self.addCleanup(late.wait)
                    self.addCleanup(late.kill)
                    there.wait(60)
                late.kill()
                late.wait()
                text = path.read_bytes()
                run("capture", "--from", path, "-o", "y.jsonl.gz", "--force", folder=self.folder)
                series = judge(self.folder / "y.jsonl.gz").series
                (result,) = (
                    process for process in series.processes.values() if process.pid == late.pid
                )
                here = series.processes[min(series.processes)]
                self.assertGreater(result.first_row, 0)
                self.assertEqual(os.getuid(), result.facts.uid)
                self.assertIn(str(script), result.facts.command_line)
                self.assertEqual(os.path.realpath(sys.executable), result.facts.executable)
                self.assertEqual(0, here.first_row)
                self.assertIsNotNone(here.facts.uid)
                # a word that looks like a secret leaves the computer in no way
                self.assertNotIn(b"secret77", text)
                # of long files only what is read is sent
                self.assertIn(b"/status:Uid:", text)
                for word in (b"voluntary_ctxt_switches", b"Max processes", b"SigBlk"):
                    self.assertNotIn(word, text)

    def test_the_one_busy_thread_of_many_is_seen_by_each_shell(self):
        script = self.folder / "auk.py"
        script.write_text(MANY_THREADS)
        many = subprocess.Popen([sys.executable, script], stdout=subprocess.PIPE)
        self.addCleanup(many.communicate)
        self.addCleanup(many.kill)
        tid = int(many.stdout.readline())
        for shell in (["dash", "-s"], ["bash", "--posix", "-s"], ["busybox", "sh", "-s"]):
            if not shutil.which(shell[0]):
                continue
            with self.subTest(shell[0]):
                path = self.collect(shell, ticks=6)
                run("capture", "--from", path, "-o", "z.jsonl.gz", "--force", folder=self.folder)
                (result,) = (
                    item
                    for item in judge(self.folder / "z.jsonl.gz").series.living.values()
                    if item.pid == many.pid
                )
                (thread,) = (item for item in result.threads if item.tid == tid)
                # what it ran, as the process's line has it, and what the others did: nothing
                ran = thread.cores.values[2:]
                self.assertAlmostEqual(
                    1.0, np.nanmean(ran) / result.cores.values[2:].mean(), delta=0.1
                )
                others = [item for item in result.threads if item.tid != tid]
                self.assertLess(
                    max([0.0, *(other.cores.known_mean() or 0 for other in others)]), 0.05
                )

    def test_a_triage_takes_it_as_it_is_and_a_damaged_one_says_so(self):
        path = self.collect(["sh", "-s"], ticks=2)
        packed = self.folder / "collected.txt.gz"
        packed.write_bytes(gzip.compress(path.read_bytes()))
        self.assertIn("Verdict", run("triage", packed, folder=self.folder).stdout)
        path.write_bytes(path.read_bytes()[:400])
        self.assertIn("not a file of the collector", self.one_line("triage", path))

    def test_a_root_with_nothing_but_a_busybox(self):
        busybox = shutil.which("busybox")
        if os.geteuid() or busybox is None:
            self.skipTest("takes an administrator and busybox")
        (self.folder / "bin").mkdir()
        shutil.copy(busybox, self.folder / "bin/busybox")
        for name in ("sh", "grep", "sed", "tr", "ls", "df", "sleep", "date", "id"):
            (self.folder / "bin" / name).symlink_to("busybox")
        for name in ("proc", "sys"):
            (self.folder / name).mkdir()
            mounted = subprocess.run(
                ["mount", "--rbind", f"/{name}", self.folder / name],
                check=False,
                capture_output=True,
            )
            if mounted.returncode:
                self.skipTest("nothing may be mounted here")
            self.addCleanup(subprocess.run, ["umount", "-l", self.folder / name], check=True)
        script = self.folder / "auk-count.py"
        script.write_text(BUSY.format(30))
        busy = subprocess.Popen([sys.executable, script])
        self.addCleanup(busy.wait)
        self.addCleanup(busy.kill)
        done = subprocess.run(
            ["/usr/sbin/chroot", self.folder, "/bin/sh", "-s"],
            capture_output=True,
            timeout=60,
            input=collector_script(MARK, 6, 0.5).encode(),
            check=True,
            env={"PATH": "/bin"},
        )
        path = self.folder / "collected.txt"
        path.write_bytes(done.stdout)
        run("capture", "--from", path, "-o", "x.jsonl.gz", folder=self.folder)
        series = judge(self.folder / "x.jsonl.gz").series
        item = series.living[busy.pid]
        # whatever else runs on this machine
        self.assertGreater(item.cores.known_mean(), 0.2)
        self.assertIn(str(script), item.facts.command_line)


@unittest.skipUnless(os.geteuid() == 0 and shutil.which("busybox"), "takes root and busybox")
class SameComputer(InFolder):
    """A model computer's tree, read by a local capture and by the collector within it."""

    def held(self, path):
        """The names of all fields that hold something, by record."""
        held = {"tick": set(), "survey": set(), "inventory": set()}
        with gzip.open(path) as lines:
            for record in map(json.loads, lines):
                parts = {record["kind"]: record, "inventory": record.get("inventory", {})}
                for kind in held.keys() & parts:
                    held[kind] |= {
                        name for name, value in parts[kind].items() if value not in (None, [], {})
                    }
        return held

    def test_each_field_arrives_or_is_declared(self):
        for name in ("cliff-top-laptop", "counting-down"):
            with self.subTest(name):
                self.compare(name)

    def compare(self, name):
        tree = self.folder / name
        tree.mkdir()
        model = ModelComputer(load_scenario(name))
        model.advance_to(5.0)
        ComputerTree(model, tree)
        (tree / "bin").mkdir()
        shutil.copy(shutil.which("busybox"), tree / "bin/busybox")
        for word in ("sh", "grep", "sed", "tr", "ls", "df", "sleep", "date", "id", "stat", "tail"):
            (tree / "bin" / word).symlink_to("busybox")
        (tree / "dev").mkdir(exist_ok=True)
        os.mknod(tree / "dev/null", 0o666 | stat.S_IFCHR, os.makedev(1, 3))
        own, far = self.folder / "own.gz", self.folder / "far.gz"
        run("capture", "--root", tree, "--for", "2s", "-o", own, "--force", folder=self.folder)
        sent = subprocess.run(
            ["/usr/sbin/chroot", tree, "/bin/sh", "-s"],
            input=collector_script(MARK, 4, 0.5).encode(),
            capture_output=True,
            timeout=60,
            check=True,
            env={"PATH": "/bin"},
        )
        collected = self.folder / "collected.txt"
        collected.write_bytes(sent.stdout)
        run("capture", "--from", collected, "-o", far, "--force", folder=self.folder)
        own_fields, far_fields = self.held(own), self.held(far)
        for kind, names in own_fields.items():
            self.assertEqual(set(), names - far_fields[kind] - {*NOT_BY_SHELL[kind]}, kind)
            self.assertEqual(set(), far_fields[kind] & {*NOT_BY_SHELL[kind]}, kind)


class Via(InFolder):
    """A computer behind any command that gives a shell."""

    def facts_of_init(self, path):
        with gzip.open(path) as lines:
            known = [json.loads(line) for line in lines if b'"kind":"process"' in line]
        return next(line["facts"] for line in known if line["facts"]["pid"] == 1)

    def test_a_shell_brings_what_a_local_capture_holds(self):
        output = self.folder / "via.gz"
        done = run("capture", "--via", "sh", "--for", "2s", "-o", output, folder=self.folder)
        self.assertIn("sampled by a shell", done.stderr)
        own = self.folder / "own.gz"
        run("capture", "--for", "1s", "-o", own, folder=self.folder)
        by_shell, here = self.facts_of_init(output), self.facts_of_init(own)
        for field in ("name", "uid", "user", "gid", "group", "start_clk", "cgroup", "command_line"):
            with self.subTest(field):
                self.assertEqual(here.get(field), by_shell.get(field))

    def test_what_is_no_shell_is_one_line(self):
        for command, said in (
            ("nosuch-command sh", "no such command"),
            ("false", "no shell answers there; check that it starts one"),
            ("cat", "leave out the option that makes"),
        ):
            with self.subTest(command):
                output = self.folder / "x.gz"
                line = self.one_line("capture", "--via", command, "--for", "1s", "-o", output)
                self.assertIn(said, line)
                self.assertFalse(output.exists())
        for arguments, said in (
            (("--via", "'open"), "close its quotes"),
            (("--via", "sh", "--on", "far"), "give one of them"),
            (("--via", "sh", "--sudo"), "--sudo goes with --on"),
            (("--via", "sh", "--until-sure"), "leave it out with --on and --via"),
        ):
            with self.subTest(arguments):
                self.assertIn(said, self.one_line("capture", *arguments, status=2))


@unittest.skipUnless(SSHD, "there is no sshd here")
class OverSsh(InFolder):
    """A server of its own on this computer, with keys and a configuration of its own."""

    ADDRESS, PREFIX = "127.0.0.1", ()

    def setUp(self):
        super().setUp()
        self.server, _, keys = own_sshd.start(self, self.ADDRESS, self.PREFIX)
        tools = self.folder / "tools"
        tools.mkdir()
        call = f'exec {shutil.which("ssh")} -F {keys}/ssh "$@"'
        (tools / "ssh").write_text(f"#!/bin/sh\n{call}\n")
        (tools / "ssh").chmod(0o755)
        self.ways = {**os.environ, "PATH": f"{tools}:{os.environ['PATH']}"}
        for _ in range(50):
            if (
                subprocess.run(
                    ["ssh", "far", "true"], env=self.ways, check=False, capture_output=True
                ).returncode
                == 0
            ):
                return
            time.sleep(0.1)
        self.skipTest("the server does not take connections here")

    def busy(self, count):
        script = self.folder / "auk-count.py"
        script.write_text(BUSY.format(60))
        for _ in range(count):
            popen = subprocess.Popen([sys.executable, script])
            self.addCleanup(popen.wait)
            self.addCleanup(popen.kill)

    def test_the_same_truth_as_seen_from_within(self):
        self.busy(3)
        within = subprocess.Popen(
            [DUNMIST, "capture", "-o", "within.jsonl.gz", "--for", "15s"],
            cwd=self.folder,
            stderr=subprocess.DEVNULL,
        )
        run(
            "capture",
            "--on",
            "far",
            "-o",
            "far.jsonl.gz",
            "--for",
            "8s",
            folder=self.folder,
            environment=self.ways,
        )
        self.assertEqual(0, within.wait(60))
        far, near = (judge(self.folder / f"{name}.jsonl.gz") for name in ("far", "within"))
        self.assertTrue(far.series.header.by_shell)
        self.assertEqual(near.triage.verdict.limiting, far.triage.verdict.limiting)
        for item in (near, far):
            # whatever else is as busy on this machine comes first or second
            self.assertIn("auk-count.py", [culprit.name for culprit in item.triage.culprits])
        # the one begins and ends later: what they say of the same seconds is held together
        begun, ended = 0.0, np.inf
        for item in (near, far):
            machine, at_s = item.series.machine, item.series.line.at_s
            begun = max(begun, machine.uptime_s - at_s[-1])
            ended = min(ended, machine.uptime_s)
        self.assertLess(5, ended - begun)
        for figure in ("busy_cores", "used"):
            seen = []
            for item in (near, far):
                machine, line = item.series.machine, item.series.line
                counted = getattr(machine, figure).values * line.interval_s
                sums = np.concatenate(([0.0], np.cumsum(counted)))
                at_s = machine.uptime_s - line.at_s[-1] + line.at_s
                seen.append(np.diff(np.interp([begun, ended], at_s, sums))[0])
            self.assertAlmostEqual(1.0, seen[1] / seen[0], delta=0.02)
        total = near.series.machine.managed_bytes
        held = [
            item.series.machine.memory_bytes("MemAvailable").median() / total
            for item in (near, far)
        ]
        self.assertAlmostEqual(held[0], held[1], delta=0.02)

    def test_what_arrived_is_kept_when_the_line_breaks_or_somebody_stops_it(self):
        for name, ended in (
            ("stopped", lambda far: far.send_signal(signal.SIGINT)),
            ("broken", self.broken),
        ):
            with self.subTest(name):
                far = subprocess.Popen(
                    [
                        DUNMIST,
                        "capture",
                        "--on",
                        "far",
                        "-o",
                        f"{name}.jsonl.gz",
                        "--for",
                        "60s",
                        "--every",
                        "500ms",
                    ],
                    cwd=self.folder,
                    env=self.ways,
                    stderr=subprocess.PIPE,
                )
                await_ticks(self.folder / f"{name}.jsonl.gz", 3, far)
                ended(far)
                said = far.communicate(timeout=30)[1].decode()
                self.assertEqual(0, far.returncode, said)
                self.assertIn("what arrived is kept", said)
                self.assertGreaterEqual(judge(self.folder / f"{name}.jsonl.gz").series.ticks, 3)

    def broken(self, far):
        sessions = subprocess.run(
            ["pgrep", "-P", str(self.server.pid)], capture_output=True, text=True, check=False
        ).stdout.split()
        for pid in sessions:
            os.kill(int(pid), signal.SIGKILL)

    def test_what_fails_says_why_in_one_line(self):
        said = self.one_line("capture", "--on", "-oProxyCommand=x", "-o", "x.jsonl.gz", status=2)
        self.assertIn("invalid host", said)
        (self.folder / "keys/known").write_text("")
        changed = (self.folder / "keys/ssh").read_text().replace("accept-new", "yes")
        (self.folder / "keys/ssh").write_text(changed)
        said = self.one_line("capture", "--on", "far", "-o", "x.jsonl.gz", environment=self.ways)
        self.assertIn("ost key verification failed", said)
        self.assertFalse((self.folder / "x.jsonl.gz").exists())

    def test_a_triage_of_a_far_computer_says_what_a_shell_cannot_see(self):
        self.busy(3)
        done = run(
            "triage",
            "--on",
            "far",
            "--for",
            "5s",
            "-o",
            "x.jsonl.gz",
            "--json",
            folder=self.folder,
            environment=self.ways,
        )
        result = json.loads(done.stdout)
        self.assertIn("sampled by a shell", done.stderr)
        self.assertEqual("auk-count.py", result["culprits"][0]["name"])
        remedies = {item["what"]: item["remedy"] for item in result["blind_spots"]}
        self.assertIn("with this program on that computer", remedies["what each connection moves"])

    def test_a_recorder_of_a_far_computer(self):
        ways = {
            **self.ways,
            "XDG_STATE_HOME": str(self.folder / "state"),
            "XDG_RUNTIME_DIR": str(self.folder / "run"),
        }
        run(
            "watch",
            "--on",
            "far",
            "--for",
            "6s",
            "--every",
            "1s",
            "--plain",
            folder=self.folder,
            environment=ways,
        )
        (segment,) = (self.folder / "state/dunmist/watch/ring").glob("*.jsonl.gz")
        result = judge(segment).series
        self.assertTrue(result.header.by_shell)
        self.assertGreaterEqual(result.ticks, 5)


NAMESPACE, NEAR, FAR = "dunmist-far", "10.87.0.1", "10.87.0.2"


class OverABadLine(OverSsh):
    """The same over a line of 100 ms that loses one packet in a hundred."""

    ADDRESS, PREFIX = FAR, ("ip", "netns", "exec", NAMESPACE)

    def setUp(self):
        if os.geteuid() or not shutil.which("tc"):
            self.skipTest("takes an administrator, and tc")
        within = f"ip -n {NAMESPACE}"
        self.addCleanup(subprocess.run, ["ip", "netns", "del", NAMESPACE], check=False)
        for command in (
            f"ip netns add {NAMESPACE}",
            f"ip link add dm-near type veth peer name dm-far netns {NAMESPACE}",
            f"ip addr add {NEAR}/24 dev dm-near",
            "ip link set dm-near up",
            f"{within} addr add {FAR}/24 dev dm-far",
            f"{within} link set dm-far up",
            "tc qdisc add dev dm-near root netem delay 50ms loss 1%",
            f"tc -n {NAMESPACE} qdisc add dev dm-far root netem delay 50ms loss 1%",
        ):
            done = subprocess.run(command.split(), check=False, capture_output=True, text=True)
            if done.returncode:
                self.skipTest(f"{command}: {done.stderr.strip()}")
        super().setUp()

    # the others have no line in their way
    test_what_fails_says_why_in_one_line = None
    test_what_arrived_is_kept_when_the_line_breaks_or_somebody_stops_it = None
    test_a_recorder_of_a_far_computer = None
    test_a_triage_of_a_far_computer_says_what_a_shell_cannot_see = None
