"""The history as people meet it: kept by a real recorder, added to by captures, told, forgotten."""

import json
import os
import signal
import sqlite3
import subprocess
import unittest

from dunmist.history import read_history
from dunmist.jobs.keep_history import summed
from dunmist.series import load_series
from dunmist.simulation import load_scenario
from dunmist.thresholds import thresholds
from tests.program import DUNMIST, InFolder, await_ticks, capture_model, run, start_busy


class Told(InFolder):
    def test_eight_weeks_name_what_drifts_with_its_date(self):
        done = run("demo", "--chapter", "eight-weeks", "-o", "weeks", folder=self.folder)
        self.assertIn("tide-gridder holds more memory from day to day", done.stdout)
        history = self.folder / "weeks" / "history.sqlite3"
        said = run("history", "--file", history, "--days", "56", "--json", folder=self.folder)
        told = json.loads(said.stdout)
        drifts = {drift["kind"]: drift for drift in told["drifts"]}
        self.assertEqual({"memory-drift", "cooling-drift", "storage-forecast"}, set(drifts))
        # the update was 40 days before the capture of 14 May
        self.assertIn(drifts["memory-drift"]["since"], ("3 April 2031", "4 April 2031"))
        texts = " ".join(each["text"] for each in drifts["memory-drift"]["evidence"])
        self.assertIn("tide-gridder 2.3-1 to 2.4-1", texts)
        self.assertEqual("nestcam-index", told["programs"][0]["name"])
        shares = sum(program["share"] for program in told["programs"])
        self.assertAlmostEqual(1.0, shares, places=3)
        for ending in ("png", "svg", "csv", "html", "txt"):
            out = self.folder / f"out.{ending}"
            run("history", "--file", history, "-o", out, folder=self.folder)
            self.assertGreater(out.stat().st_size, 500)
        rows = (self.folder / "out.csv").read_text().splitlines()
        self.assertIn("program", rows[0])
        self.assertGreater(len(rows), 5000)
        only = run("history", "gridder", "--file", history, folder=self.folder)
        self.assertIn("tide-gridder", only.stdout)
        self.assertNotIn("mail-lantern", only.stdout)
        self.one_line("history", "nobody", "--file", history, status=2)
        self.one_line("history", "--file", history, "-o", "out.doc")
        self.one_line("history", "--file", self.folder / "weeks" / "now.jsonl.gz")
        self.usual(self.folder / "weeks" / "now.jsonl.gz", history)
        self.beside(self.folder / "weeks" / "now.jsonl.gz", history)

    def beside(self, capture, history):
        state = self.folder / "state" / "dunmist"
        state.mkdir(parents=True)
        history.rename(state / "history.sqlite3")
        environment = {"XDG_STATE_HOME": str(state.parent)}
        told = run(
            "compare", "history:28d", capture, "--json", folder=self.folder, environment=environment
        )
        compared = json.loads(told.stdout)
        self.assertEqual("unusual", compared["answer"])
        self.assertGreater(compared["hours"], 20)
        clear = {(each["name"], each["what"]) for each in compared["figures"] if each["clear"]}
        self.assertIn(("nestcam-index", "cores"), clear)
        self.assertNotIn("mail-lantern", {name for name, _ in clear})
        other = self.folder / "other.gz"
        self.one_line("compare", "history:28d", other, environment=environment)
        self.one_line("compare", "history:28d", capture, other, status=2, environment=environment)

    def usual(self, capture, history):
        triage = json.loads(
            run("triage", capture, "--history", history, "--json", folder=self.folder).stdout
        )
        (first,) = triage["culprits"][:1]
        evidence = " ".join(each["text"] for each in first["evidence"])
        self.assertRegex(evidence, r"usual at this hour: 0\.\d+ cores, .* now 3\.\d+ cores")
        kinds = [finding["kind"] for finding in triage["findings"]]
        for kind in ("memory-drift", "cooling-drift", "storage-forecast"):
            self.assertIn(kind, kinds)
        drift = next(each for each in triage["findings"] if each["kind"] == "memory-drift")
        self.assertIn("restart-service", [step["action"] for step in drift["steps"]])
        # of another computer nothing is usual
        other = capture_model(load_scenario("busy-ferry"), self.folder / "other.gz", 5.0)
        self.one_line("triage", other, "--history", history)
        plain = json.loads(run("triage", capture, "--json", folder=self.folder).stdout)
        self.assertNotIn("memory-drift", [finding["kind"] for finding in plain["findings"]])

    def test_what_is_summed_is_what_the_triage_sees(self):
        for scenario in ("ringing-office", "noon-copy", "busy-ferry"):
            with self.subTest(scenario):
                path = capture_model(load_scenario(scenario), self.folder / f"{scenario}.gz", 30.0)
                piece, series = summed(path, thresholds()), load_series(path, [])
                (hour,) = piece.periods
                self.assertAlmostEqual(series.duration_s, hour.sampled_s, delta=0.01)
                self.assertGreater(len(hour.applications), 3)
                for application in series.applications:
                    each = hour.applications.get(application.name)
                    if each is None or application.kernel or application.cores.total() < 1.0:
                        continue
                    cpu_s = application.cores.total()
                    self.assertAlmostEqual(cpu_s, each.cpu_s, delta=0.02 * cpu_s + 0.05)
                    moved = application.read_bytes_per_s.total()
                    moved += application.write_bytes_per_s.total()
                    self.assertAlmostEqual(moved, each.disk_bytes, delta=0.02 * moved + 1e5)
                used = hour.resources["cpu"].used_share_s / hour.resources["cpu"].used_s
                self.assertAlmostEqual(series.machine.used.mean(), used, delta=0.02)


class Kept(InFolder):
    measures_computer = True

    def setUp(self):
        super().setUp()
        self.environment = {"XDG_STATE_HOME": str(self.folder / "state")}
        self.environment["XDG_CONFIG_HOME"] = str(self.folder / "config")
        self.path = self.folder / "state" / "dunmist" / "history.sqlite3"

    def run(self, *arguments, **options):
        if not arguments or isinstance(arguments[0], unittest.TestResult):
            return super().run(*arguments, **options)
        return run(*arguments, folder=self.folder, environment=self.environment, **options)

    def record(self, ticks, stop):
        ring = self.folder / "state" / "dunmist" / "watch" / "ring"
        before = len(list(ring.glob("*.gz"))) if ring.exists() else 0
        child = subprocess.Popen(
            [DUNMIST, "watch", "run", "--every", "0.5s"],
            env={**os.environ, **self.environment},
            stderr=subprocess.DEVNULL,
        )
        try:
            await_ticks(ring / f"segment-{before + 1:06}.jsonl.gz", ticks, child)
        finally:
            child.send_signal(stop)
            child.wait()

    def hours(self):
        with read_history(self.path) as history:
            return history.periods()

    def test_a_killed_recorder_loses_nothing_and_counts_nothing_twice(self):
        start_busy(self, "tern-census.py")
        for _ in range(2):
            self.record(8, signal.SIGKILL)
        # the next one adds what was cut off
        self.record(4, signal.SIGINT)
        hours = self.hours()
        sampled_s = sum(hour.sampled_s for hour in hours)
        cpu_s = sum(hour.applications["tern-census.py"].cpu_s for hour in hours)
        self.assertGreater(sampled_s, 8.0)
        # it keeps one CPU full, as far as it gets one
        self.assertGreater(cpu_s / sampled_s, 0.3)
        self.assertLess(cpu_s / sampled_s, 1.05)
        whole = [
            summed(path, thresholds())
            for path in sorted((self.path.parent / "watch" / "ring").glob("*.gz"))
        ]
        recorded_s = sum(
            hour.sampled_s for piece in whole for hour in piece.periods if piece.identity
        )
        self.assertAlmostEqual(recorded_s, sampled_s, delta=1.5)
        text = self.run("history").stdout
        self.assertIn("tern-census.py", text)

    def test_only_a_recorder_makes_one_and_captures_add_to_it(self):
        self.run("capture", "-o", "first.gz", "--for", "1s", "--every", "0.5s")
        self.assertFalse(self.path.exists())
        self.one_line("history", environment=self.environment)
        self.record(3, signal.SIGINT)
        before_s = sum(hour.sampled_s for hour in self.hours())
        self.run("capture", "-o", "second.gz", "--for", "2s", "--every", "0.5s")
        after_s = sum(hour.sampled_s for hour in self.hours())
        self.assertAlmostEqual(before_s + 2.0, after_s, delta=0.3)
        # neither a model's nor one that is looked at again
        self.run("triage", "second.gz")
        root = self.folder / "root"
        root.mkdir()
        self.assertEqual(after_s, sum(hour.sampled_s for hour in self.hours()))
        settings = self.folder / "config" / "dunmist" / "settings.toml"
        settings.parent.mkdir(parents=True)
        settings.write_text("history = false\n")
        self.run("capture", "-o", "third.gz", "--for", "1s", "--every", "0.5s")
        self.assertEqual(after_s, sum(hour.sampled_s for hour in self.hours()))
        self.assertIn("deleted", self.run("history", "--forget").stdout)
        self.record(3, signal.SIGINT)
        self.assertFalse(self.path.exists())

    def test_a_recorder_goes_on_whatever_its_history_is(self):
        for number, damage in enumerate(("newer", "damaged", "damaged inside")):
            with self.subTest(damage):
                self.record(3, signal.SIGINT)
                if damage == "newer":
                    with sqlite3.connect(self.path) as base:
                        base.execute("PRAGMA user_version = 99")
                    base.close()
                elif damage == "damaged":
                    self.path.write_bytes(b"SQLite format 3\0" + b"\xff" * 8000)
                else:
                    # the first page is whole, so that it can be opened
                    kept = self.path.read_bytes()
                    self.path.write_bytes(kept[:4096] + b"\xff" * (len(kept) - 4096))
                kept = self.path.read_bytes()
                self.record(3, signal.SIGINT)
                if damage == "newer":
                    self.assertEqual(kept, self.path.read_bytes())
                    self.path.unlink()
                else:
                    self.assertEqual(number, len(list(self.path.parent.glob("*-damaged-*"))))
                    self.assertTrue(self.hours())


if __name__ == "__main__":
    unittest.main()
