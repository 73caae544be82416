"""The flight recorder: its ring, what it keeps, marks, recalling, the screen, and sudden ends."""

import gzip
import json
import os
import signal
import socket
import subprocess
import sys
import time
import unittest
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np

from dunmist.captures import CaptureReader
from dunmist.jobs.judge import judge
from dunmist.recorder import Marks, Rules, TimeWindow, cut, load_watch_rules, read_segments
from dunmist.recorder.latest_state import Known
from dunmist.sampling import Tick
from dunmist.sampling.deltas import Deltas
from dunmist.series import Part, load_series
from dunmist.simulation import load_scenario
from dunmist.thresholds import thresholds
from tests.bus_stand_in import StandIn
from tests.program import DUNMIST, InFolder, capture_model, run

ATTEMPTS = 3
HOG = (
    "import os\nfor _ in range(2 * os.cpu_count() + 1):\n"
    "    if not os.fork(): exec('while 1: 0')\nos.wait()\n"
)


def records_of(path):
    with CaptureReader(path) as reader:
        yield from reader.lines()


class Cutting(InFolder):
    def test_a_stretch_has_the_figures_of_the_part(self):
        for name in ("ringing-office", "errands", "restless-mast"):
            with self.subTest(name):
                whole = capture_model(load_scenario(name), self.folder / f"{name}.gz", 40.0)
                with CaptureReader(whole) as reader:
                    began = datetime.fromisoformat(reader.header.started).timestamp()
                wanted = TimeWindow(began + 10, began + 30)
                path = self.folder / f"{name}-part.gz"
                result = cut([whole], wanted, path)
                self.assertEqual((21, 20.0), (result.ticks, result.duration_s))
                part, other = load_series(path, []), load_series(whole, [], Part(10.0, 30.0))
                used = {
                    application.name: application.cores.total()
                    for application in other.applications
                    if application.cores.total() > 0.02
                }
                ours = {
                    application.name: application.cores.total() for application in part.applications
                }
                for name_, cpu_s in used.items():
                    self.assertAlmostEqual(cpu_s, ours[name_], delta=0.02 + 0.001 * cpu_s)
                np.testing.assert_allclose(
                    other.machine.used.values, part.machine.used.values, atol=1e-9
                )
                self.assertEqual(
                    judge(whole, part=Part(10.0, 30.0)).diagnosis.limiting,
                    judge(path).diagnosis.limiting,
                )

    def test_what_is_known_says_everything_that_still_is(self):
        path = capture_model(load_scenario("errands"), self.folder / "a.gz", 20.0)
        known, living = Known(), set()
        for record in records_of(path):
            if type(record).__name__ in {"Header", "Footer"}:
                continue
            known.add(record)
            if type(record).__name__ == "ProcessLine":
                living.add(record.id)
            if getattr(record, "what", "") == "exit":
                living -= set(record.processes)
            if isinstance(record, Tick):
                last = record
        lines = list(known.beginning(last))
        self.assertEqual(
            living, {line.id for line in lines if type(line).__name__ == "ProcessLine"}
        )
        (tick,) = (line for line in lines if isinstance(line, Tick))
        self.assertEqual(living, {process.process for process in tick.processes})
        self.assertGreater(len(tick.processes), len(last.processes))


class Kept(InFolder):
    def test_the_tick_that_saw_what_lasts_a_moment_is_judged(self):
        path = capture_model(load_scenario("calm-morning"), self.folder / "x.jsonl.gz", 10.0)
        header, rest = gzip.decompress(path.read_bytes()).split(b"\n", 1)
        words = json.loads(header)
        # a rounding before the sixth tick, which is the one that saw it
        words["incident"] = {"set_off": ["killed"], "began_s": 4.0, "ended_s": 4.999999}
        path.write_bytes(gzip.compress(json.dumps(words).encode() + b"\n" + rest))
        result = judge(path).series
        self.assertGreaterEqual(result.since_s + result.line.at_s[-1], 5.0)


class LightRules(InFolder):
    def holding(self, name, span_s=40.0):
        """Return the rules that held at any time on a model computer."""
        path = capture_model(load_scenario(name), self.folder / f"{name}.gz", span_s, 2.0)
        with CaptureReader(path) as reader:
            machine = reader.header.machine
            speeds = {
                link.name: link.speed_bits_per_s
                for link in reader.header.inventory.links
                if link.speed_bits_per_s
            }
            rules, deltas = Rules(load_watch_rules(), speeds, thresholds()), Deltas(machine)
            known, result = Known(), set()
            for record in reader.lines():
                if type(record).__name__ == "Footer":
                    continue
                known.add(record)
                interval = deltas.add(record)
                if isinstance(record, Tick):
                    result |= set(rules.add(record, interval, known))
        return result

    def test_what_strains_sets_it_off_and_calm_does_not(self):
        for name, expected in (
            ("ringing-office", {"cpu"}),
            ("lone-thread", {"core"}),
            ("flooded-burrow", {"memory"}),
            ("noon-copy", {"disk"}),
            ("busy-ferry", {"link"}),
            ("still-fan", {"heat"}),
            ("gone-in-the-night", {"killed"}),
            ("lost-harbour", {"hung"}),
        ):
            with self.subTest(name):
                self.assertLessEqual(expected, self.holding(name))
        for name in ("calm-morning", "cliff-top-evening", "opened-album"):
            with self.subTest(name):
                self.assertEqual(set(), self.holding(name))


class Recording(InFolder):
    measures_computer = True

    def setUp(self):
        super().setUp()
        self.options = {
            "folder": self.folder,
            "environment": {
                **os.environ,
                "XDG_STATE_HOME": str(self.folder / "state"),
                "XDG_RUNTIME_DIR": str(self.folder / "run"),
                "TERM": "xterm-256color",
            },
        }
        self.place = self.folder / "state" / "dunmist" / "watch"
        self.started = []
        self.addCleanup(self.end_all)

    def end_all(self):
        for process in self.started:
            if process.poll() is None:
                process.kill()
            process.communicate()

    def begin(self, *more):
        process = subprocess.Popen(
            [DUNMIST, "watch", "--plain", "--every", "0.5s", *more],
            cwd=self.folder,
            env=self.options["environment"],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        self.started.append(process)
        self.within(60, lambda: read_segments(self.place / "ring"), "no segment")
        return process

    def within(self, seconds, holds, text):
        end = time.monotonic() + seconds
        while not (result := holds()):
            self.assertLess(time.monotonic(), end, text)
            time.sleep(0.05)
        return result

    def listed(self):
        return run("watch", "list", **self.options).stdout

    def test_what_somebody_says_is_kept_and_triaged(self):
        recorder = self.begin()
        self.assertEqual("no incidents so far\n", self.listed())
        time.sleep(3.0)
        self.assertEqual("done\n", run("watch", "--mark", "it \x1b[2Jfroze", **self.options).stdout)
        again = run("watch", "--plain", status=1, **self.options)
        self.assertIn("a recorder runs there already", again.stderr)
        time.sleep(1.0)
        recorder.send_signal(signal.SIGINT)
        _, said = recorder.communicate(timeout=60)
        self.assertEqual(0, recorder.returncode, said)
        self.assertIn('marked "it ', said)
        self.assertNotIn("\x1b", self.listed())
        triage = json.loads(run("triage", "incident:1", "--json", **self.options).stdout)
        self.assertGreater(triage["capture"]["ticks"], 4)
        at = self.listed().split()[2][:5]
        for name in ("incident:1", f"incident:{at}"):
            self.assertIn("Memory", run("view", "memory", name, **self.options).stdout.title())
        wrong = run("triage", "incident:9", status=2, **self.options)
        self.assertIn("unknown incident '9'", wrong.stderr)
        segment = read_segments(self.place / "ring")[-1].path
        with CaptureReader(segment) as reader:
            list(reader.lines())
            self.assertTrue(reader.complete)
        since = datetime.now() - timedelta(seconds=60)
        run("watch", "recall", since.isoformat(), "--for", "2m", "-o", "cut.gz", **self.options)
        self.assertGreater(self.triage(self.folder / "cut.gz")["capture"]["ticks"], 5)
        for path in (*self.place.rglob("*.gz"), *self.place.rglob("*.json")):
            self.assertEqual(0o600, path.stat().st_mode & 0o777, path)

    def record_strain(self, script):
        """Record a program that takes all CPUs for twenty seconds."""
        recorder = self.begin()
        hog = subprocess.Popen([sys.executable, script], start_new_session=True)
        try:
            time.sleep(20.0)
        finally:
            os.killpg(hog.pid, signal.SIGKILL)
            hog.wait()
        recorder.send_signal(signal.SIGTERM)
        recorder.communicate(timeout=90)

    def test_a_strain_is_kept_with_its_culprit(self):
        script = self.folder / "gull-storm"
        script.write_text(HOG)
        # a hypervisor that takes the CPU meanwhile makes it another kind of trouble
        for _ in range(ATTEMPTS):
            self.record_strain(script)
            if "incident:1" in self.listed():
                break
        self.assertRegex(self.listed(), r"incident:1  .* s  .*cpu")
        triage = json.loads(run("triage", "incident:1", "--json", **self.options).stdout)
        self.assertEqual("cpu", triage["verdict"]["limiting"])
        self.assertRegex(triage["culprits"][0]["name"], r"^gull-storm")
        if os.geteuid() == 0:
            # it is asked for only while something is wrong
            what = [item["what"] for item in triage["culprits"][0]["doing"]]
            self.assertIn("code", what)
            with CaptureReader(read_segments(self.place / "ring")[0].path) as reader:
                ticks = [line for line in reader.lines() if isinstance(line, Tick)]
            self.assertEqual([], ticks[1].code)

    def test_everything_up_to_a_sudden_end_can_be_read(self):
        recorder = self.begin()
        for turn in range(3):
            time.sleep(2.2 + 0.37 * turn)
            recorder.kill()
            killed_s = time.time()
            recorder.wait()
            segment = read_segments(self.place / "ring")[-1].path
            with CaptureReader(segment) as reader:
                began = datetime.fromisoformat(reader.header.started).timestamp()
                last = max(line.at_s for line in reader.lines() if isinstance(line, Tick))
            self.assertLess(killed_s - began - last, 1.5)
            recorder = self.begin()
        self.within(60, lambda: self.listed().count("cut-off") == 3, self.listed())
        self.assertIn(
            "capture", json.loads(run("triage", "incident:1", "--json", **self.options).stdout)
        )


class WithServiceManager(InFolder):
    def setUp(self):
        super().setUp()
        self.bus = StandIn(self.folder / "bus")
        self.bus.start()
        self.addCleanup(self.bus.close)
        address = f"unix:path={self.folder / 'bus'}"
        (self.folder / "units").mkdir()
        self.options = {
            "folder": self.folder,
            "environment": {
                **os.environ,
                "XDG_STATE_HOME": str(self.folder / "state"),
                "XDG_RUNTIME_DIR": str(self.folder / "run"),
                "DBUS_SYSTEM_BUS_ADDRESS": address,
                "DBUS_SESSION_BUS_ADDRESS": address,
                "SYSTEMD_UNIT_PATH": str(self.folder / "units"),
            },
        }

    def asked(self):
        return [
            name
            for name, _ in self.bus.calls
            if name not in ("Hello", "LoadUnit", "GetAll", "ListUnitsByPatterns")
        ]

    def test_a_recorder_and_a_plan_come_and_go(self):
        plan = ("--plan", "moult", "--at", "2031-05-14T04:00", "--for", "5m", "--every-day")
        for more, files, says in (
            (
                ("--keep", "2h"),
                ["dunmist-watch.service"],
                r"ExecStart=/\S+ -E -P -m dunmist watch --plain .*--keep 7200s",
            ),
            (
                plan,
                ["dunmist-plan-moult.service", "dunmist-plan-moult.timer"],
                r"OnCalendar=\*-\*-\* 04:00:00",
            ),
        ):
            with self.subTest(more):
                shown = run("watch", "--install", *more, **self.options).stdout
                self.assertIn("Nothing was done", shown)
                self.assertRegex(shown, says)
                self.assertEqual([], os.listdir(self.folder / "units"))
                self.bus.calls.clear()
                run("watch", "--install", *more, "--yes", **self.options)
                self.assertEqual(files, sorted(os.listdir(self.folder / "units")))
                self.assertEqual(["Reload", "EnableUnitFiles", "Reload", "StartUnit"], self.asked())
                text = (self.folder / "units" / files[-1]).read_text()
                self.assertTrue(text.startswith("# made by dunmist"), text)
                removed = ("--plan", "moult") if more is plan else ()
                run("watch", "--remove", *removed, "--yes", **self.options)
                self.assertEqual([], os.listdir(self.folder / "units"))
                self.assertEqual("StopUnit", self.asked()[-2])
        said = run("watch", "--remove", "--yes", status=1, **self.options).stderr
        self.assertIn("was not installed from here", said)

    def test_what_is_there_already_is_left(self):
        (self.folder / "units" / "dunmist-watch.service").write_text("[Unit]\n")
        said = run("watch", "--install", "--yes", status=1, **self.options).stderr
        self.assertIn("is there already and not ours", said)

    def test_the_person_at_the_screen_is_told(self):
        recorder = subprocess.Popen(
            [DUNMIST, "watch", "--plain", "--tell", "--every", "0.5s"],
            cwd=self.folder,
            env=self.options["environment"],
            stderr=subprocess.PIPE,
            text=True,
        )
        self.addCleanup(recorder.communicate)
        self.addCleanup(recorder.kill)
        # root's recorder listens where everybody reaches it, whatever the environment says
        run_directory = self.folder / "run" if os.geteuid() else Path("/run")
        socket_file = run_directory / "dunmist" / "marks.sock"
        end = time.monotonic() + 60
        while not socket_file.exists() and time.monotonic() < end:
            time.sleep(0.1)
        time.sleep(2.0)
        run("watch", "mark", "the film stutters", **self.options)
        recorder.send_signal(signal.SIGINT)
        recorder.communicate(timeout=60)
        (told,) = [body for name, body in self.bus.calls if name == "Notify"]
        self.assertEqual("This computer had trouble just now", told[3])
        self.assertIn("incident:1", told[4])


class HostileMarks(InFolder):
    def test_a_few_a_minute_short_and_without_tricks(self):
        marks = Marks(self.folder / "run")
        self.addCleanup(marks.close)
        said = []
        answers = []
        for text in (b"x" * 5000, b"\xff\xfe\x1b]0;owned\x07", b"", *[b"again"] * 8):
            with socket.socket(socket.AF_UNIX) as peer:
                peer.connect(str(self.folder / "run" / "marks.sock"))
                peer.send(text or b" ")
                answers.append(peer.recv(20))
                said += marks.taken()
        self.assertEqual([b"done\n"] * 6 + [b"too many\n"] * 5, answers)
        self.assertEqual(6, len(said))
        self.assertEqual(200, len(said[0].words))
        self.assertNotIn("\x1b", said[1].words)
        self.assertEqual({os.geteuid()}, {item.uid for item in said})
        with socket.socket(socket.AF_UNIX) as silent:
            silent.connect(str(self.folder / "run" / "marks.sock"))
            began = time.monotonic()
            self.assertEqual([], marks.taken())
            self.assertLess(time.monotonic() - began, 5.0)


if __name__ == "__main__":
    unittest.main()
