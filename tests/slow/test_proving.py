"""Proof by alternation: its statistics, a real suspect, and that it goes on whatever happens."""

import contextlib
import itertools
import os
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path

import numpy as np

from dunmist.compare import Design, Phase
from dunmist.compare.crossover_trial import allowed_orders, effect_of_pausing, phase_values
from dunmist.fixing import read_journal
from dunmist.series import Rate, TimeLine
from tests.program import DUNMIST, InFolder, run

DESIGN = Design(10, 5, 2, 2, 4.0)
SERVING = Design(16, 5, 1, 16, 2.5)
HOG = (
    "import os\nfor _ in range(2 * os.cpu_count() + 1):\n"
    "    os.fork() or exec('while True: pass')\nos.wait()\n"
)
VICTIM = "import time\nwhile True:\n    sum(range(100000)); time.sleep(0.005)\n"


class Statistics(unittest.TestCase):
    def test_every_order_keeps_to_its_design(self):
        for design, count in ((DESIGN, 84), (SERVING, 792)):
            orders = allowed_orders(design)
            self.assertEqual(count, len(set(orders)))
            for order in orders:
                self.assertEqual(design.paused, sum(order))
                rows = [len(list(row)) for paused, row in itertools.groupby(order) if paused]
                self.assertLessEqual(max(rows), design.paused_row)

    def test_a_clear_effect_is_as_unlikely_as_one_order_of_all(self):
        order = allowed_orders(DESIGN)[17]
        values = np.where(order, 0.03, 0.61) + np.linspace(0, 0.01, 10)
        result = effect_of_pausing(values, order, DESIGN)
        self.assertAlmostEqual(1 / 84, result.p_value)
        self.assertLess(result.low, -0.57)
        self.assertTrue(result.low < result.paused - result.running < result.high < -0.5, result)
        self.assertAlmostEqual(0.95, result.fall, places=1)

    def test_chance_is_called_an_effect_as_often_as_it_says(self):
        chance = np.random.default_rng(7)
        orders = allowed_orders(DESIGN)
        said = covered = 0
        for turn in range(300):
            # what wanders by itself is not independent from phase to phase
            values = np.cumsum(chance.normal(size=10))
            result = effect_of_pausing(values, orders[chance.integers(len(orders))], DESIGN)
            said += result.p_value <= 0.05
            covered += result.low <= 0 <= result.high
            del turn
        self.assertLess(said / 300, 0.085)
        self.assertGreater(covered / 300, 0.915)

    def test_a_phase_has_only_what_lies_wholly_in_it(self):
        line = TimeLine(np.arange(0.0, 8.5, 0.5))
        rate = Rate(line, np.where(line.at_s[:-1] < 4, 1.0, 3.0))
        phases = [Phase(0.2, 4.2, False), Phase(4.2, 8.2, True)]
        np.testing.assert_allclose([1.0, 3.0], phase_values(rate, None, phases, 1.0))
        self.assertTrue(np.isnan(phase_values(rate, None, [Phase(9, 12, True)], 1.0)).all())


class OnRealProcesses(InFolder):
    measures_computer = True

    def setUp(self):
        super().setUp()
        self.started = []
        self.addCleanup(self.end)
        self.state = {**os.environ, "XDG_STATE_HOME": str(self.folder / "state")}

    def end(self):
        for process in self.started:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()

    def start(self, name, text):
        script = self.folder / name
        script.write_text(text)
        process = subprocess.Popen([sys.executable, script], start_new_session=True)
        self.started.append(process)
        return process

    def suspected(self):
        """Start a hog and one that it holds up, and capture them; return the hog."""
        hog = self.start("gull-storm", HOG)
        self.start("nest-call", VICTIM)
        time.sleep(0.5)
        run("capture", "-o", "a.jsonl.gz", "--for", "4s", "--every", "0.5s", folder=self.folder)
        return hog

    def begin(self, *arguments):
        """Begin an experiment, and wait until the suspect is paused."""
        hog = self.suspected()
        proving = subprocess.Popen(
            [DUNMIST, "fix", "a.jsonl.gz", "--pid", str(hog.pid), "--prove", "--yes", *arguments],
            cwd=self.folder,
            env=self.state,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        self.addCleanup(proving.communicate)
        self.addCleanup(proving.kill)
        seen = self.within(60, lambda: "T" in self.states() or proving.poll() is not None)
        # a refusal says more than that nothing happened
        self.assertIsNone(proving.poll(), proving.poll() is not None and proving.stderr.read())
        self.assertTrue(seen, "never paused")
        return hog, proving

    def states(self):
        """Return the states of the processes of the hog."""
        result = ""
        for place in Path("/proc").glob("[0-9]*"):
            try:
                if b"gull-storm" in (place / "cmdline").read_bytes().split(b"\0")[1]:
                    result += (place / "stat").read_text().rpartition(")")[2].split()[0]
            except (OSError, IndexError):
                continue
        return result

    @staticmethod
    def within(seconds, holds):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if holds():
                return True
            time.sleep(0.05)
        return False

    def test_the_cause_is_proven(self):
        hog = self.suspected()
        asked = ("fix", "a.jsonl.gz", "--prove", "--prove-for", "20s")
        shown = run(*asked, "--pid", hog.pid, folder=self.folder, environment=self.state).stdout
        self.assertIn("Nothing was done", shown)
        for _ in range(4):
            said = run(
                *asked, "--yes", "--pid", hog.pid, folder=self.folder, environment=self.state
            ).stdout
            self.assertNotIn("T", self.states())
            if "could not be sampled" not in said:
                break
        else:
            self.skipTest("this machine is too busy for an experiment")
        # where others make it wait as well, it is a part of it
        self.assertRegex(" ".join(said.split()), "it is (the cause|a part of it)")
        kept = read_journal(self.folder / "state" / "dunmist" / "acts.jsonl")
        self.assertEqual(["begun", "done"], [line.stage for line in kept[-2:]])
        self.assertEqual("alternate", kept[0].act.verb)

    def test_the_suspect_goes_on_when_the_program_is_killed(self):
        _, proving = self.begin()
        proving.send_signal(signal.SIGKILL)
        proving.wait()
        self.assertTrue(self.within(60, lambda: "T" not in self.states()), self.states())

    def test_the_suspect_goes_on_when_program_and_watchdog_are_killed_at_once(self):
        _, proving = self.begin()
        # all that have this program in their command line, as pkill -f would
        words = (f"{DUNMIST}\0fix".encode(), b"/fixing/watchdog.py")
        hit = []
        for place in Path("/proc").glob("[0-9]*"):
            with contextlib.suppress(OSError):
                command = (place / "cmdline").read_bytes()
                if any(word in command for word in words):
                    hit.append(int(place.name))
        self.assertEqual(2, len(hit))
        for pid in hit:
            os.kill(pid, signal.SIGKILL)
        proving.wait()
        self.assertTrue(self.within(60, lambda: "T" not in self.states()), self.states())
        self.assertIn("R", self.states())

    def test_the_suspect_goes_on_when_the_program_is_stopped(self):
        _, proving = self.begin()
        proving.send_signal(signal.SIGSTOP)
        self.assertTrue(self.within(60, lambda: "T" not in self.states()), self.states())
        proving.send_signal(signal.SIGCONT)
        _, said = proving.communicate(timeout=60)
        self.assertEqual(1, proving.returncode)
        self.assertIn("nothing was proven", said)
        self.assertNotIn("T", self.states())

    def test_ctrl_c_lets_it_go_on_at_once(self):
        _, proving = self.begin()
        proving.send_signal(signal.SIGINT)
        _, said = proving.communicate(timeout=60)
        self.assertEqual(1, proving.returncode, said)
        self.assertIn("goes on, and nothing was proven", said)
        self.assertNotIn("T", self.states())

    def test_what_ends_meanwhile_is_said(self):
        hog, proving = self.begin()
        os.killpg(hog.pid, signal.SIGKILL)
        _, said = proving.communicate(timeout=60)
        self.assertEqual(1, proving.returncode)
        self.assertIn("ended by itself", said)

    def test_what_does_not_follow_within_seconds_is_refused(self):
        run("demo", "flooded-burrow", "-o", "leak", folder=self.folder)
        path = next((self.folder / "leak").glob("*.jsonl.gz"))
        said = self.one_line("fix", path, "--culprit", "1", "--prove")
        self.assertIn("does not follow within seconds", said)


if __name__ == "__main__":
    unittest.main()
