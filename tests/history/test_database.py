"""The file of the history: whole or not at all, never twice, and what it refuses."""

import os
import sqlite3
import stat
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from dunmist.errors import HistoryError
from dunmist.history import (
    DAY_S,
    HOUR_S,
    ApplicationSum,
    Damaged,
    Event,
    Identity,
    Level,
    Period,
    Piece,
    forget,
    open_history,
    put_aside,
    read_given,
    read_history,
)

COMPUTER = Identity("skerrow-lap-02", "Skerrow 14", 8)
START_S = 22_000 * DAY_S


def piece(hour, name="auk", cpu_s=60.0, identity=None):
    began_s = START_S + hour * HOUR_S
    made = Period(began_s, HOUR_S, 0, 1800.0, 0, 8, 8 << 30)
    made.applications[name] = ApplicationSum(cpu_s, 1e9, 1800, 5e5)
    made.levels["storage", "sda1"] = Level("storage", "sda1", 1e9 + hour, 4e9)
    return Piece(identity or f"run/{hour}", began_s + 1.0, began_s + 1801.0, [made])


class Kept(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory(prefix="dunmist-test-")
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "state" / "history.sqlite3"

    def opened(self, *, create=True):
        history = open_history(self.path, create=create)
        if history is not None:
            self.addCleanup(history.__exit__)
        return history

    def test_what_was_added_is_read_back_and_never_twice(self):
        history = self.opened()
        self.assertTrue(history.add(piece(0), COMPUTER))
        self.assertFalse(history.add(piece(0), COMPUTER))
        # another look at the same time is not counted on top of it
        self.assertFalse(history.add(piece(0, identity="other"), COMPUTER))
        also = piece(0, cpu_s=40.0, identity="set back")
        self.assertTrue(history.add(also, COMPUTER, also_overlapping=True))
        (hour,) = history.periods()
        self.assertEqual(100.0, hour.applications["auk"].cpu_s)
        self.assertEqual(3600.0, hour.sampled_s)
        self.assertEqual(Level("storage", "sda1", 1e9, 4e9), hour.levels["storage", "sda1"])
        self.assertEqual(COMPUTER.text, history.identity())
        # what took next to nothing is known to have been there
        small = piece(5)
        small.periods[0].small.add("mite")
        history.add(small, COMPUTER)
        self.assertIn("mite", history.names_before(small.began_s + 1.0))
        self.assertNotIn("mite", history.names_before(small.began_s))
        self.assertEqual(0o600, stat.S_IMODE(self.path.stat().st_mode))

    def test_one_of_an_older_version_is_brought_up_to_date(self):
        with self.opened() as history:
            history.add(piece(0), COMPUTER)
        with sqlite3.connect(self.path) as base:
            base.execute("ALTER TABLE name DROP COLUMN since_s")
            base.execute("PRAGMA user_version = 1")
        base.close()
        with self.assertRaisesRegex(HistoryError, "older version"):
            read_history(self.path)
        history = self.opened(create=False)
        self.assertTrue(history.add(piece(1), COMPUTER))
        self.assertEqual(2, len(history.periods()))
        self.assertIn("auk", history.names_before(START_S))

    def test_only_who_may_makes_one(self):
        self.assertIsNone(self.opened(create=False))
        with self.assertRaisesRegex(HistoryError, "is not there"):
            read_history(self.path)
        self.assertFalse(forget(self.path))
        self.opened()
        self.assertTrue(forget(self.path))
        self.assertFalse(self.path.exists())

    def test_old_hours_become_days_and_old_days_go(self):
        history = self.opened()
        for day in range(0, 480, 2):
            for hour in (9, 10):
                history.add(piece(24 * day + hour), COMPUTER)
        history.add_events([Event(START_S + 5.0, "start", "start", 20.0)])
        history.make_room()
        periods = history.periods()
        newest_s = START_S + 478 * DAY_S
        hours = [each for each in periods if each.length_s == HOUR_S]
        days = [each for each in periods if each.length_s == DAY_S]
        self.assertGreaterEqual(min(each.began_s for each in hours), newest_s - 61 * DAY_S)
        self.assertGreaterEqual(min(each.began_s for each in days), newest_s - 401 * DAY_S)
        self.assertEqual(120.0, days[0].applications["auk"].cpu_s)
        self.assertEqual([], history.events())

    def test_a_clock_that_is_wrong_for_a_while_takes_nothing_away(self):
        history = self.opened()
        for hour in range(40):
            history.add(piece(hour), COMPUTER)
        for hour in range(5):
            history.add(piece(2 * 365 * 24 + hour), COMPUTER)
        history.make_room()
        self.assertEqual(45, len(history.periods()))

    def test_what_is_not_trusted_is_refused_in_one_line(self):
        self.opened().add(piece(0), COMPUTER)
        link = self.path.with_name("link.sqlite3")
        link.symlink_to(self.path)
        with self.assertRaisesRegex(HistoryError, "is a link"):
            open_history(link)
        hard = self.path.with_name("hard.sqlite3")
        hard.hardlink_to(self.path)
        with self.assertRaisesRegex(HistoryError, "is a link"):
            open_history(hard)
        hard.unlink()
        folder = self.path.with_name("folder")
        folder.mkdir()
        with self.assertRaisesRegex(HistoryError, "no plain file"):
            open_history(folder)
        foreign = self.path.with_name("foreign.sqlite3")
        with sqlite3.connect(foreign) as base:
            base.execute("CREATE TABLE nests (id)")
        base.close()
        with self.assertRaisesRegex(HistoryError, "no history of this program"):
            open_history(foreign)
        with sqlite3.connect(self.path) as base:
            base.execute("PRAGMA user_version = 99")
        base.close()
        for call in (open_history, read_history):
            with self.assertRaisesRegex(HistoryError, "newer version"):
                call(self.path)

    def test_a_given_one_may_hold_anything(self):
        with self.opened() as history:
            history.add(piece(3), COMPUTER)
        with read_given(self.path) as history:
            self.assertEqual(60.0, history.periods()[0].applications["auk"].cpu_s)
        whole = self.path.read_bytes()
        for statement, said in (
            ("UPDATE period SET began_s = -5", "cannot be"),
            ("UPDATE period SET began_s = 'nest'", "damaged"),
            ("UPDATE period SET length_s = 7", "cannot be"),
            ("UPDATE application SET cpu_s = 9e999", "cannot be"),
            ("UPDATE application SET cpu_s = -1", "cannot be"),
            ("UPDATE application SET cpu_s = 'tern'", "damaged"),
            ("UPDATE resource SET used_bins = x'00'", None),
            ("DROP TABLE heat", "has not the tables"),
            ("DROP TABLE heat; CREATE VIEW heat AS SELECT 1", "has not the tables"),
            ("INSERT INTO event VALUES (9e30, 'start', 'start', 1)", None),
        ):
            with self.subTest(statement):
                self.path.write_bytes(whole)
                base = sqlite3.connect(self.path)
                base.executescript(statement)
                base.commit()
                base.close()
                try:
                    with read_given(self.path) as history:
                        history.periods()
                        history.events()
                except HistoryError as error:
                    self.assertIn(said or "", str(error))
                else:
                    self.assertIsNone(said, "it was taken")
        for text in (b"", b"SQLite format 3\0" * 20):
            self.path.write_bytes(text)
            with self.assertRaises(HistoryError):
                read_given(self.path)
        with self.assertRaisesRegex(HistoryError, "plain file"):
            read_given(self.path.parent)

    @unittest.skipUnless(os.geteuid() == 0, "needs the administrator to give files away")
    def test_somebody_elses_is_refused(self):
        self.opened()
        os.chown(self.path, 65534, 65534)
        with self.assertRaisesRegex(HistoryError, "belongs to somebody else"):
            open_history(self.path)

    def test_a_damaged_one_is_put_aside(self):
        with self.opened() as history:
            for hour in range(40):
                history.add(piece(hour), COMPUTER)
        data = bytearray(self.path.read_bytes())
        data[4096:20_000] = b"\xff" * (20_000 - 4096)
        self.path.write_bytes(data)
        with self.assertRaises(Damaged), read_history(self.path) as history:
            history.periods()
        aside = put_aside(self.path)
        self.assertTrue(aside.exists())
        self.assertEqual([], self.opened().periods())
        for text in (b"", b"SQLite format 3\0", b"no database at all" * 100):
            other = self.path.with_name("other.sqlite3")
            other.write_bytes(text)
            with self.assertRaises(HistoryError), read_history(other) as history:
                history.periods()

    def test_a_full_disk_loses_nothing(self):
        history = self.opened()
        history.add(piece(0), COMPUTER)
        # pages that are there are all there is
        history._base.execute("PRAGMA max_page_count = 1")
        large = piece(1)
        for number in range(4000):
            large.periods[0].applications[f"gull-{number}"] = ApplicationSum(1.0)
        with self.assertRaisesRegex(HistoryError, "full"):
            history.add(large, COMPUTER)
        self.assertEqual(1, len(history.periods()))
        history._base.execute("PRAGMA max_page_count = 1000000")
        self.assertTrue(history.add(large, COMPUTER))

    def test_a_kill_leaves_whole_pieces(self):
        script = (
            "import sys\nfrom pathlib import Path\n"
            "from tests.history.test_database import COMPUTER, piece\n"
            "from dunmist.history import open_history\n"
            f"history = open_history(Path({str(self.path)!r}), create=True)\n"
            "for hour in range(100000):\n"
            "    history.add(piece(hour), COMPUTER)\n    print(hour, flush=True)\n"
        )
        for _ in range(3):
            child = subprocess.Popen(
                [sys.executable, "-c", script], stdout=subprocess.PIPE, text=True
            )
            last = 0
            until_s = time.monotonic() + 20
            while last < 15 and time.monotonic() < until_s:
                last = int(child.stdout.readline() or 0)
            child.kill()
            child.wait()
            child.stdout.close()
            with read_history(self.path) as history:
                hours = history.periods()
            self.assertGreaterEqual(len(hours), last)
            self.assertEqual({60.0}, {each.applications["auk"].cpu_s for each in hours})
            self.assertTrue(all(history_has(self.path, number) for number in range(last)))


def history_has(path, hour):
    with read_history(path) as history:
        return history.has(f"run/{hour}")


if __name__ == "__main__":
    unittest.main()
