"""A computer whose files vanish, break and shrink under the sampler: no capture ends of it."""

import json
import math
import os
import pwd
import random
import resource
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from dunmist.captures import CaptureReader
from dunmist.computer import Home, Root, Unread, read_autostart
from dunmist.computer.rooted_open import open_stepwise
from dunmist.jobs.capture import CaptureOptions, run_capture
from dunmist.jobs.judge import judge
from dunmist.reports import triage_json
from dunmist.sampling import Event, ProcessLine, Tick
from dunmist.simulation import ComputerTree, ModelComputer, VirtualClock, load_scenario
from dunmist.tables import TOPICS, fill
from tests import silent_file
from tests.program import DUNMIST, InFolder, frame_of, run

# without these there is no computer to sample; they may be broken, but not at the first tick
NEEDED = ("proc/stat", "proc/meminfo")
SIGNED_TABLES = ("sensors", "implausible sensors", "swap areas")
SIGNED = ("change_bytes", "seconds", "nice", "signal_dbm")
GARBAGE = (b"", b"\xff\xfe\x00", b"-1\n", b"99999999999999999999\n", b"nan inf\n", b"a b c d e\n")


class Meddling(VirtualClock):
    """Moves the model on, and then spoils files of its tree and lets the clocks jump."""

    def __init__(self, model, tree, directory, seed):
        super().__init__(model, tree)
        self.directory, self.chance = Path(directory), random.Random(seed)
        self.asleep_s = 0.0
        self.ticks = 0

    def boottime_s(self):
        return super().boottime_s() + self.asleep_s

    def sleep_until(self, monotonic_s):
        moved = super().sleep_until(monotonic_s)
        self.ticks += 1
        if self.ticks > 1:
            files = [
                path
                for path in self.directory.rglob("*")
                if path.is_file() and not path.is_symlink()
            ]
            for file in self.chance.sample(files, len(files) // 8):
                if not str(file.relative_to(self.directory)).startswith(NEEDED):
                    self.spoil(file)
            self.asleep_s += self.chance.choice((0.0, 0.0, 7.5))
        return moved

    def spoil(self, file):
        data = file.read_bytes()
        way = self.chance.randrange(5)
        if way == 0:
            file.unlink()
        elif way == 1:
            os.truncate(file, len(data) // 2)
        elif way == 2:
            self.write(file, self.chance.choice(GARBAGE))
        elif way == 3:
            # counters that go backwards
            self.write(file, data.translate(bytes.maketrans(b"56789", b"01234")))
        else:
            file.chmod(0)

    def write(self, file, data):
        file.chmod(0o644)
        with file.open("r+b") as stream:
            stream.truncate(0)
            stream.write(data)


def figures(value):
    """Yield every number of a document but temperatures and readings, which may be below zero."""
    if isinstance(value, dict):
        if value.get("unit") in ("°C", "K", "as read"):
            return
        value = list(value.values())
    if isinstance(value, list):
        for item in value:
            yield from figures(item)
    elif isinstance(value, float | int):
        yield value


def impossible_cells(judged):
    """Return table, column and value of every figure that no computer can have."""
    result, processors = [], len(judged.series.header.machine.processors)
    for table in {item.key: item for tables in TOPICS.values() for item in tables}.values():
        frame = frame_of(fill(table, judged))
        for column in table.columns:
            if not column.is_numeric:
                continue
            # temperatures, changes, clocks set back, priorities may be below nought
            signed = table.name in SIGNED_TABLES or column.name in SIGNED or column.unit == "moment"
            most = {"share": 1.0, "cores": processors}.get(column.unit, math.inf)
            for value in map(float, frame[column.name].dropna()):
                if not math.isfinite(value) or (value < 0 and not signed) or value > most + 1e-9:
                    result.append((table.name, column.name, value))
    return result


@unittest.skipUnless(silent_file.can_mount(), "needs the right to mount, and /dev/fuse")
class Silent(InFolder):
    """A file whose server does not answer: a signal ends the capture all the same."""

    def patient(self):
        place = self.folder / "patient"
        self.addCleanup(ComputerTree(ModelComputer(load_scenario("ringing-office")), place).close)
        return place

    def start(self, place):
        return subprocess.Popen(
            [DUNMIST, "capture", "--root", place, "-o", self.folder / "x.gz", "--for", "20s"],
            stderr=subprocess.PIPE,
            text=True,
        )

    def end(self, child, number):
        child.send_signal(number)
        return child.communicate(timeout=60)[1]

    def test_before_the_first_tick_nothing_is_kept(self):
        place = self.patient()
        with silent_file.mounted(place / "proc/stat") as asked:
            child = self.start(place)
            self.assertTrue(asked.wait(60))
            said = self.end(child, signal.SIGTERM)
        self.assertEqual(1, child.returncode)
        self.assertIn("does not answer; stopped, and nothing was kept\n", said)
        self.assertEqual([place], list(self.folder.iterdir()))

    def test_after_it_all_ticks_are(self):
        place, path = self.patient(), self.folder / "x.gz"
        child = self.start(place)
        until = time.monotonic() + 60
        while not path.exists() and time.monotonic() < until:
            time.sleep(0.05)
        # the survey at the end reads it once more
        with silent_file.mounted(place / "proc/self/mountinfo"):
            said = self.end(child, signal.SIGINT)
        self.assertEqual(1, child.returncode)
        self.assertIn(f"what was sampled is kept in {path}\n", said)
        with CaptureReader(path) as reader:
            self.assertTrue(any(isinstance(line, Tick) for line in reader.lines()))


class Spoilt(unittest.TestCase):
    def test_no_broken_file_ends_a_capture_or_yields_an_impossible_figure(self):
        for seed in range(8):
            with self.subTest(seed=seed), TemporaryDirectory() as directory:
                path = Path(directory) / "x.jsonl.gz"
                place = Path(directory) / "patient"
                model = ModelComputer(load_scenario("ringing-office"))
                tree = ComputerTree(model, place)
                clock = Meddling(model, tree, place, seed)
                run_capture(CaptureOptions(path, 12.0, 1.0, place, force=True), clock)
                tree.close()
                judged = judge(path)
                self.assertEqual(13, judged.series.ticks)
                numbers = list(figures(json.loads(triage_json(judged.triage))))
                self.assertTrue(all(math.isfinite(number) and number >= 0 for number in numbers))
                for share in judged.triage.coverage.values():
                    self.assertTrue(share is None or 0 <= share <= 1)
                self.assertTrue(judged.triage.blind_spots)
                self.assertEqual([], impossible_cells(judged))


class InTheWay(InFolder):
    """What a user puts where a capture reads neither stops nor fills it."""

    def test_no_plain_file_is_waited_for(self):
        place = self.folder / "patient"
        tree = ComputerTree(ModelComputer(load_scenario("ringing-office")), place)
        self.addCleanup(tree.close)
        entries = place / "etc/xdg/autostart"
        entries.mkdir(parents=True, exist_ok=True)
        os.mkfifo(entries / "fifo.desktop")
        (entries / "endless.desktop").symlink_to("/dev/zero")
        with (entries / "long.desktop").open("wb") as stream:
            stream.truncate(1 << 30)
        began = time.monotonic()
        run(
            "capture",
            "--root",
            place,
            "-o",
            "x.jsonl.gz",
            "--for",
            "0.4s",
            "--every",
            "0.2s",
            folder=self.folder,
        )
        self.assertLess(time.monotonic() - began, 10.0)
        shown = run("triage", "x.jsonl.gz", "--json", folder=self.folder).stdout
        self.assertIn("autostart", str(json.loads(shown)["blind_spots"]))

    def test_a_home_that_somebody_filled_takes_neither_time_nor_room(self):
        place = self.folder / "copy"
        entries = place / "home/tern/.config/autostart"
        jobs = place / "var/spool/cron/crontabs"
        entries.mkdir(parents=True)
        jobs.mkdir(parents=True)
        for number in range(320):
            (entries / f"{number}.desktop").write_text(
                f"[Desktop Entry]\nName=n\nExec=/bin/x {'a' * 9000}\n#{'b' * 90_000}"
            )
        (jobs / "tern").write_text(f"@daily /bin/y {'c' * 9000}\n" * 2000)
        root = Root(place)
        self.addCleanup(root.close)
        result = read_autostart(root, [Home("tern", "/home/tern", 1000, 1000)])
        self.assertEqual(300, sum(item.kind == "desktop" for item in result))
        self.assertLess(20, sum(item.kind == "cron" for item in result))
        self.assertLess(sum(len(item.command) for item in result), 2 << 20)
        self.assertEqual(
            {Unread("autostart entries", "too-many"): 1},
            {spot: len(things) for spot, things in root.unread.items()},
        )

    def test_no_link_leads_out_of_a_copy(self):
        place, outside = self.folder / "patient", self.folder / "outside"
        (place / "etc").mkdir(parents=True)
        (place / "etc/hostname").write_text("inside")
        (place / "hostname").write_text("the copy's own")
        outside.write_text("secret")
        for name, target in (
            ("absolute", str(outside)),
            ("up", "../" * 30 + str(outside).lstrip("/")),
            ("root", "/etc/hostname"),
            ("within", "../hostname"),
            ("round", "round"),
            ("directory", "/etc"),
        ):
            (place / "etc" / name).symlink_to(target)
        root = Root(place)
        self.addCleanup(root.close)
        directory = os.open(place, os.O_PATH)
        self.addCleanup(os.close, directory)

        def stepwise(name):
            descriptor = open_stepwise(directory, name, os.O_RDONLY)
            try:
                return os.read(descriptor, 100)
            finally:
                os.close(descriptor)

        for read in (root.read, stepwise):
            for name, result in (
                ("etc/absolute", None),
                ("etc/up", None),
                ("etc/round", None),
                ("etc/no", None),
                ("etc/root", b"inside"),
                ("etc/within", b"the copy's own"),
                ("../../etc/hostname", b"inside"),
                ("etc/directory/hostname", b"inside"),
            ):
                with self.subTest(name, way=read):
                    if result is None:
                        self.assertRaises(OSError, read, name)
                    else:
                        self.assertEqual(result, read(name))
        self.assertEqual(str(outside), root.link("etc/absolute"))
        self.assertEqual((True, False), (root.exists("etc/root"), root.exists("etc/absolute")))
        self.assertIn("hostname", root.names("etc/directory"))

    @unittest.skipUnless(os.geteuid() == 0, "needs an administrator")
    def test_homes_are_read_with_the_rights_of_their_owners(self):
        nobody = pwd.getpwnam("nobody")
        secret = self.folder / "secret.desktop"
        secret.write_text("[Desktop Entry]\nExec=secret\n")
        secret.chmod(0o600)
        self.folder.chmod(0o755)
        entries = self.folder / "home/.config/autostart"
        entries.mkdir(parents=True)
        (entries / "mine.desktop").write_text("[Desktop Entry]\nExec=mine\n")
        (entries / "mine.desktop").chmod(0o644)
        (entries / "theirs.desktop").symlink_to(secret)
        home = Home("nobody", str(self.folder / "home"), nobody.pw_uid, nobody.pw_gid)
        root = Root(Path("/"))
        mine = [entry.command for entry in read_autostart(root, [home]) if entry.user == "nobody"]
        self.assertEqual((["mine"], 0), (mine, os.geteuid()))
        self.assertIn(Unread("autostart entries", "permission"), root.unread)

    def test_a_command_line_without_end_is_read_to_a_bound(self):
        script = "import time\nprint(flush=True)\ntime.sleep(60)"
        words = ["y" * 100_000] * 15
        child = subprocess.Popen([sys.executable, "-c", script, *words], stdout=subprocess.PIPE)
        self.addCleanup(child.stdout.close)
        self.addCleanup(child.wait)
        self.addCleanup(child.kill)
        child.stdout.readline()
        run("capture", "-o", "x.jsonl.gz", "--for", "0.4s", "--every", "0.2s", folder=self.folder)
        with CaptureReader(self.folder / "x.jsonl.gz") as reader:
            facts = [line.facts for line in reader.lines() if isinstance(line, ProcessLine)]
        (own,) = (fact for fact in facts if fact.pid == child.pid)
        self.assertLess(sum(map(len, own.command_line)), 40_000)
        self.assertGreater(sum(map(len, own.command_line)), 8_000)

    def test_few_descriptors_are_enough(self):
        script = "import time\nprint(flush=True)\ntime.sleep(60)"
        children = [
            subprocess.Popen([sys.executable, "-S", "-c", script], stdout=subprocess.PIPE)
            for _ in range(150)
        ]
        for child in children:
            self.addCleanup(child.stdout.close)
            self.addCleanup(child.wait)
            self.addCleanup(child.kill)
        for child in children:
            child.stdout.readline()
        run(
            "capture",
            "-o",
            "x.jsonl.gz",
            "--for",
            "0.6s",
            "--every",
            "0.2s",
            folder=self.folder,
            prepare=lambda: resource.setrlimit(resource.RLIMIT_NOFILE, (160, 160)),
        )
        with CaptureReader(self.folder / "x.jsonl.gz") as reader:
            lines = list(reader.lines())
        seen = {item.facts.pid: item.id for item in lines if isinstance(item, ProcessLine)}
        self.assertLessEqual({child.pid for child in children}, seen.keys())
        # nobody is taken for one that ended and came back
        ended = {process for line in lines if isinstance(line, Event) for process in line.processes}
        self.assertTrue(ended.isdisjoint(seen[child.pid] for child in children))
