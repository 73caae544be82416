"""Sampling ends as soon as more of it would hardly change the verdict, and no sooner."""

import os
import signal
import subprocess
import sys
import unittest
from types import SimpleNamespace

import numpy as np

from dunmist.diagnosis import Trace, is_decided, thresholds
from dunmist.jobs.interim_verdict import InterimVerdict, judge_so_far
from dunmist.series import Rate, TimeLine
from dunmist.simulation import load_scenario
from tests.program import InFolder, capture_model, run

CALM, STRAINED = 0, 2
HOG = (
    "import os\nfor _ in range(2 * os.cpu_count() + 1):\n"
    "    if not os.fork(): exec('while 1: 0')\nos.wait()\n"
)


def decided(levels):
    line = TimeLine(np.arange(len(levels) + 1.0))
    trace = Trace(Rate(line, np.full(len(levels), 0.5)), None, np.array(levels))
    state = SimpleNamespace(trace=trace)
    return is_decided(SimpleNamespace(limits=thresholds(), resources=[state]))


class Sequential(unittest.TestCase):
    def test_it_takes_some_intervals_of_one_kind_and_more_of_two(self):
        for levels, expected in (
            ([STRAINED] * 6, False),
            ([STRAINED] * 7, True),
            ([CALM] * 7, True),
            # a spike at the start must be outweighed first
            ([STRAINED] * 3 + [CALM] * 9, False),
            ([STRAINED] * 3 + [CALM] * 10, True),
            # what is strained half of the time is never decided
            ([STRAINED, CALM] * 60, False),
        ):
            with self.subTest(levels):
                self.assertEqual(expected, decided(levels))

    def test_chance_seldom_decides_wrongly(self):
        chance, limits, wrong = np.random.default_rng(3), thresholds().sure, 0
        for _ in range(400):
            levels = np.where(chance.random(200) < limits.share_low, STRAINED, CALM)
            for count in range(1, 200):
                if decided(levels[:count]):
                    wrong += (levels[:count] >= STRAINED).mean() > 0.5
                    break
        self.assertLess(wrong / 400, 0.02)


class Looking(InFolder):
    measures_computer = True

    def test_what_is_believed_twice_is_sure_and_never_before_six_seconds(self):
        path = capture_model(load_scenario("ringing-office"), self.folder / "a.gz", 12.0)
        first = judge_so_far(4.5, path, None)
        self.assertEqual(("cpu", "nestcam-index", False), (*first[2:4], first.is_sure))
        self.assertTrue(judge_so_far(9.0, path, first).is_sure)
        self.assertFalse(judge_so_far(5.0, path, first).is_sure)
        other = InterimVerdict(*first[:3], "somebody else", *first[4:])
        self.assertFalse(judge_so_far(9.0, path, other).is_sure)

    def test_a_capture_ends_when_it_is_sure(self):
        (self.folder / "gull-storm").write_text(HOG)
        hog = subprocess.Popen(
            [sys.executable, "gull-storm"], cwd=self.folder, start_new_session=True
        )
        self.addCleanup(hog.wait)
        self.addCleanup(os.killpg, hog.pid, signal.SIGKILL)
        run("capture", "-o", "a.gz", "--until-sure", "--for", "80s", folder=self.folder)
        result = self.triage(self.folder / "a.gz")
        # whatever else this computer does meanwhile
        self.assertIn("gull-storm", [culprit["name"] for culprit in result["culprits"]])
        self.assertLess(result["capture"]["duration_s"], 75)
        self.assertGreaterEqual(result["capture"]["duration_s"], 6)


if __name__ == "__main__":
    unittest.main()
