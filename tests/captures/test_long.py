"""Long captures: ticks put together, parts of them, and when it was bad."""

import json
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from types import SimpleNamespace

import msgspec
import numpy as np

from dunmist.diagnosis import ResourceState, Trace, thresholds, worst_window
from dunmist.jobs.patient import capture_patient
from dunmist.sampling import ADDED, KEYS, WORDS, Tick
from dunmist.series import Part, load_series
from dunmist.series.tick_merging import ROWS_MOST, ticks_together
from dunmist.simulation import load_scenario
from tests.handmade import line, rate
from tests.program import run


def figures(series):
    """Return what each application used and moved in all."""
    return {
        application.name: np.array(
            [
                application.cores.total(),
                application.waiting.total(),
                application.read_bytes_per_s.total(),
            ]
        )
        for application in series.applications
        if not application.has_namesakes
    }


class Parts(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.path = Path(folder.name) / "long.jsonl.gz"
        capture_patient(load_scenario("shelf-scan"), cls.path, 50.0, 0.1)

    def test_what_is_put_together_adds_up_to_what_its_parts_say(self):
        whole = load_series(self.path)
        self.assertEqual((501, 251), (whole.ticks, whole.line.ticks))
        parts = [load_series(self.path, part=Part(*ends)) for ends in ((0.0, 20.0), (20.0, 99.0))]
        # the second begins with the last tick of the first
        self.assertEqual([201, 301], [part.ticks for part in parts])
        self.assertEqual([201, 301], [part.line.ticks for part in parts])
        self.assertAlmostEqual(20.0, parts[1].since_s)
        together = figures(whole)
        for name, (first, second) in {
            name: [figures(part)[name] for part in parts] for name in together
        }.items():
            with self.subTest(name):
                np.testing.assert_allclose(together[name], first + second, rtol=0.02, atol=0.02)
        held = [application.private_bytes.last() for application in whole.applications]
        self.assertEqual(
            held, [application.private_bytes.last() for application in parts[1].applications]
        )

    def triaged(self, *given):
        done = run("triage", self.path, "--json", *given, folder=self.path.parent)
        return json.loads(done.stdout)["capture"]

    def test_a_part_is_named_and_begins_when_it_does(self):
        result = self.triaged("--since", "10s", "--until", "14:20:30")
        self.assertEqual({"since_s": 10.0, "until_s": 30.0}, result["part"])
        self.assertEqual(20.0, result["duration_s"])
        self.assertEqual("2031-05-14T14:20:10", result["started"][:19])
        self.assertNotIn("part", self.triaged())

    def test_parts_that_are_none(self):
        for given, status, says in (
            (("--since", "5m"), 1, "has no two ticks in that part of its 50 s"),
            (("--since", "30s", "--until", "10s"), 2, "--until is not after --since"),
            (("--since", "soon"), 2, "invalid time 'soon'"),
        ):
            with self.subTest(given):
                done = run(
                    "view", "machine", self.path, *given, folder=self.path.parent, status=status
                )
                self.assertIn(says, done.stderr)
                self.assertEqual(1, done.stderr.count("\n"))


class Put(unittest.TestCase):
    def test_rows_stay_bounded(self):
        for ticks in (1, ROWS_MOST, ROWS_MOST + 1, 86_400):
            self.assertLessEqual(ticks / ticks_together(ticks), ROWS_MOST)
        self.assertEqual(1, ticks_together(ROWS_MOST))

    def test_every_field_that_holds_what_changed_is_put_together(self):
        known = {*KEYS, *WORDS, *ADDED, "threads", "details"}
        # these are whole at every tick
        whole = {"clocks_khz", "memory", "paging", "after_ms"}
        for field in msgspec.structs.fields(Tick):
            if "list" in str(field.type) or "dict" in str(field.type):
                with self.subTest(field.name):
                    self.assertIn(field.name, known | whole)


class Stretches(unittest.TestCase):
    def window_of(self, levels, limiting=None, seconds=10.0):
        on = line(len(levels), seconds)
        trace = Trace(rate(0.5, on), None, np.array(levels))
        states = [ResourceState("cpu", "calm", 0.5, 0.0, [], trace=trace)]
        diagnosis = SimpleNamespace(limiting=limiting, limits=thresholds(), resources=states)
        return worst_window(SimpleNamespace(line=on, duration_s=on.duration_s), diagnosis)

    def test_the_longest_and_worst_counts_with_its_short_rests(self):
        calm = [0] * 20
        for what, levels, wanted in (
            ("one", [*calm, 2, 2, 2, *calm], (200.0, 230.0)),
            ("with a rest", [*calm, 2, 2, 1, 0, 2, *calm], (200.0, 250.0)),
            ("the worse of two", [2, 2, *calm, 3, 3, *calm], (220.0, 240.0)),
            ("too short", [*calm, 3, *calm], None),
            ("none", [*calm, 1, 1, 1, *calm], None),
        ):
            with self.subTest(what):
                self.assertEqual(wanted, self.window_of(levels))
        self.assertIsNone(self.window_of([*calm, 2, 2, *calm], limiting="cpu"))
        self.assertIsNone(self.window_of([0] * 5 + [2, 2] + [0] * 5), "no long capture")


if __name__ == "__main__":
    unittest.main()
