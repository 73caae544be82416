"""Which files programs move along: against what the programs themselves counted."""

import gzip
import json
import os
import shutil
import subprocess
import sys
import unittest

from dunmist.applications import Grouping
from dunmist.computer import ParseError
from dunmist.computer.file_positions import parse_characters, parse_position
from dunmist.sampling import CharacterCounts
from dunmist.sampling.file_activity import FileSample
from dunmist.series.file_use import FileCollector
from tests.program import TESTS, InFolder, run

# copies from one file to another and says what it moved along each; the journal is a tenth of it
COPY = """
import sys, time
source, target, journal = sys.argv[1:4]
block = b"guano" * 40_000
with open(source, "wb") as file:
    for _ in range(600): file.write(block)
print("ready", flush=True)
with open(source, "rb") as one, open(target, "wb") as other, open(journal, "ab") as third:
    while True:
        if not (data := one.read(200_000)): break
        other.write(data); other.flush()
        third.write(data[:20_000]); third.flush()
        time.sleep(0.025)
time.sleep(60)
"""
# writes by position, as databases do
DATABASE = """
import os, sys, time
number = os.open(sys.argv[1], os.O_RDWR | os.O_CREAT)
for place in range(100_000):
    os.pwrite(number, os.urandom(65_536), place * 65_536)
    time.sleep(0.02)
"""
MANY = """
import itertools, os, sys, time
for place in itertools.count():
    with open(f"{sys.argv[1]}/{place}", "wb", buffering=0) as file:
        for _ in range(8):
            file.write(os.urandom(50_000))
            time.sleep(0.01)
"""


class KnownMovers(InFolder):
    measures_computer = True

    def setUp(self):
        super().setUp()
        # what a disk is behind: the system's temporary folder may be memory
        self.place = TESTS / f"moved-{os.getpid()}.tmp"
        self.place.mkdir(exist_ok=True)
        self.addCleanup(shutil.rmtree, self.place)

    def start(self, name, script, *arguments):
        path = self.folder / name
        path.write_text(script)
        child = subprocess.Popen(
            [sys.executable, path, *map(str, arguments)], stdout=subprocess.PIPE, text=True
        )
        self.addCleanup(child.stdout.close)
        self.addCleanup(child.wait)
        self.addCleanup(child.kill)
        return child

    def test_bytes_by_file_a_database_and_a_folder_of_many(self):
        many = self.place / "many"
        many.mkdir()
        files = [self.place / name for name in ("source", "target", "journal")]
        copy = self.start("copy_tern.py", COPY, *files)
        self.start("store_tern.py", DATABASE, self.place / "eggs.db")
        self.start("scatter_tern.py", MANY, many)
        self.assertEqual("ready\n", copy.stdout.readline())
        capture = self.folder / "moved.jsonl.gz"
        run("capture", "-o", capture, "--for", "9s", "--every", "0.5s", folder=self.folder)
        shown = json.loads(run("view", "doing", capture, "--json", folder=self.folder).stdout)
        found = {
            (row["application"], row["name"]): row
            for row in shown["doing"]
            if row["what"] == "file"
        }
        if not found:
            self.skipTest("no disk behind the files of the test")
        # of what it writes the target has ten parts of eleven
        target = found["copy_tern.py", str(files[1])]
        self.assertAlmostEqual(10 / 11, target["share"], delta=0.05)
        self.assertIn("writes", target["text"])
        self.assertAlmostEqual(1.0, found["copy_tern.py", str(files[0])]["share"], delta=0.05)
        database = found["store_tern.py", str(self.place / "eggs.db")]
        self.assertIsNone(database["share"])
        self.assertIn("sets the position itself", database["text"])
        self.assertIn("many files", found["scatter_tern.py", str(many)]["text"])


# waits without being able to be woken until its child runs a program, which waits for a writer
SPAWN = """
import os, sys
os.mkfifo(sys.argv[1])
print("ready", flush=True)
waits = (os.POSIX_SPAWN_OPEN, 0, sys.argv[1], os.O_RDONLY, 0)
os.posix_spawn("/bin/true", ["true"], {}, file_actions=[waits])
"""


@unittest.skipUnless(os.geteuid() == 0, "needs the administrator")
class Waiting(InFolder):
    measures_computer = True

    def test_what_is_waited_for_is_looked_at_between_ticks_and_no_tick_is_late(self):
        fifo = self.folder / "fifo"
        child = subprocess.Popen([sys.executable, "-c", SPAWN, fifo], stdout=subprocess.PIPE)
        self.addCleanup(child.stdout.close)
        self.addCleanup(child.wait)
        # its child ends when somebody has written
        self.addCleanup(lambda: os.close(os.open(fifo, os.O_WRONLY)))
        child.stdout.readline()
        path = self.folder / "waits.jsonl.gz"
        run("capture", "-o", path, "--for", "6s", folder=self.folder)
        lines = [json.loads(line) for line in gzip.decompress(path.read_bytes()).splitlines()]
        number = next(
            line["id"]
            for line in lines
            if line["kind"] == "process" and line["facts"]["pid"] == child.pid
        )
        ticks = [line for line in lines if line["kind"] == "tick"]
        calls = [call for tick in ticks for call in tick.get("calls", ()) if call[0] == number]
        # seven ticks and four looks between two of them; some may be missed on a busy machine
        self.assertGreater(len(calls), 2 * len(ticks))
        self.assertLessEqual({call[1] for call in calls}, {"clone", "clone3", "vfork"})
        self.assertEqual({"kernel_clone"}, {call[3] for call in calls})
        late = [tick["at_s"] - round(tick["at_s"]) for tick in ticks]
        self.assertLess(max(late), 0.1)
        shown = json.loads(run("view", "doing", path, "--json", folder=self.folder).stdout)
        texts = [row["text"] for row in shown["doing"] if row["what"] == "wait"]
        self.assertIn("until its child runs its own program", " ".join(texts))


class Positions(unittest.TestCase):
    """The rules, on ticks made by hand: bytes of calls, then position and access of each file."""

    def files(self, *ticks):
        collector = FileCollector()
        for row, (read, written, files) in enumerate(ticks):
            collector.add(row, self.tick(row, read, written, files))
        grouping = Grouping(None)
        grouping.application_of = {7: 0}
        return collector.finish(grouping)[0].files

    def use(self, *ticks):
        return {(file.path, file.manner): file.moved_bytes for file in self.files(*ticks)}

    def tick(self, row, read, written, files):
        samples = [FileSample(7, 3 + index, *file) for index, file in enumerate(files)]
        totals = [CharacterCounts(7, read, written)]
        return type("Tick", (), {"at_s": float(row), "files": samples, "file_totals": totals})

    def test_how_long_a_log_has_grown_like_that(self):
        (log,) = self.files(
            (0, 0, [("/log", 1_000_000, 1, True)]), (0, 2_000_000, [("/log", 3_000_000, 1, True)])
        )
        told = (log.path, log.moved_bytes, log.appended_bytes)
        self.assertEqual(("/log", 2_000_000, 3_000_000), told)

    def test_what_was_moved_before_does_not_count(self):
        moved = self.use(
            (90_000_000, 0, [("/a", 80_000_000, 0, False)]),
            (99_000_000, 0, [("/a", 89_000_000, 0, False)]),
        )
        self.assertEqual({("/a", "reads"): 9_000_000}, moved)

    def test_a_file_that_is_opened_later_counts_from_its_beginning_but_not_at_its_end(self):
        moved = self.use(
            (0, 0, []),
            (0, 40_000_000, [("/new", 30_000_000, 1, False), ("/log", 7_000_000_000, 1, True)]),
            (0, 60_000_000, [("/new", 45_000_000, 1, False), ("/log", 7_005_000_000, 1, True)]),
        )
        self.assertEqual({("/new", "writes"): 45_000_000, ("/log", "writes"): 5_000_000}, moved)

    def test_a_position_that_was_set_moves_nothing(self):
        moved = self.use(
            (0, 0, [("/a", 0, 0, False)]), (50_000, 0, [("/a", 10_000_000_000, 0, False)])
        )
        self.assertEqual({("/a", "reads"): None}, moved)

    def test_one_that_is_open_for_both_follows_its_process(self):
        moved = self.use(
            (0, 0, [("/a", 0, 2, False)]), (1_000, 20_000_000, [("/a", 20_000_000, 2, False)])
        )
        self.assertEqual({("/a", "writes"): 20_000_000}, moved)

    def test_other_forms_are_refused(self):
        self.assertEqual(
            (17, 0o102001), parse_position(b"pos:\t17\nflags:\t0102001\nmnt_id:\t27\n")
        )
        for data in (b"", b"pos:\t-1\nflags:\t02\n", b"pos:\t17\n", b"pos:\t17\nflags:\t09\n"):
            with self.subTest(data), self.assertRaises(ParseError):
                parse_position(data)
        with self.assertRaises(ParseError):
            parse_characters(b"rchar: 7\n")


if __name__ == "__main__":
    unittest.main()
