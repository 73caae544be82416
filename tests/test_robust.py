"""A computer whose files vanish, break and shrink under the sampler: no capture ends of it."""

import json
import math
import os
import random
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from dunmist.jobs.capture import Wishes, run_capture
from dunmist.jobs.judge import judge
from dunmist.reports import triage_json
from dunmist.simulation import ComputerTree, ModelComputer, VirtualClock, load_scenario
from dunmist.tables import TOPICS, fill

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
            files = [one for one in self.directory.rglob("*")
                     if one.is_file() and not one.is_symlink()]  # fmt: skip
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
        for one in value:
            yield from figures(one)
    elif isinstance(value, float | int):
        yield value


def impossible_cells(judged):
    """Return table, column and value of every figure that no computer can have."""
    found, processors = [], len(judged.series.header.machine.processors)
    for table in {one.key: one for tables in TOPICS.values() for one in tables}.values():
        frame = fill(table, judged).frame
        for column in table.columns:
            if not column.is_numeric:
                continue
            # temperatures, changes, clocks set back, priorities may be below nought
            signed = table.name in SIGNED_TABLES or column.name in SIGNED or column.unit == "moment"
            most = {"share": 1.0, "cores": processors}.get(column.unit, math.inf)
            for value in map(float, frame[column.name].dropna()):
                if not math.isfinite(value) or (value < 0 and not signed) or value > most + 1e-9:
                    found.append((table.name, column.name, value))
    return found


class Spoilt(unittest.TestCase):
    def test_no_broken_file_ends_a_capture_or_yields_an_impossible_figure(self):
        for seed in range(8):
            with self.subTest(seed=seed), TemporaryDirectory() as directory:
                path = Path(directory) / "x.jsonl.gz"
                place = Path(directory) / "patient"
                model = ModelComputer(load_scenario("ringing-office"))
                tree = ComputerTree(model, place)
                clock = Meddling(model, tree, place, seed)
                run_capture(Wishes(path, 12.0, 1.0, place, force=True), clock)
                tree.close()
                judged = judge(path)
                self.assertEqual(13, judged.series.ticks)
                numbers = list(figures(json.loads(triage_json(judged.triage))))
                self.assertTrue(all(math.isfinite(one) and one >= 0 for one in numbers))
                for share in judged.triage.coverage.values():
                    self.assertTrue(share is None or 0 <= share <= 1)
                self.assertTrue(judged.triage.blind_spots)
                self.assertEqual([], impossible_cells(judged))
