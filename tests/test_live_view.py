"""What is shown and believed while it goes on: the screen's figures, and when enough is known."""

import time
import unittest
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

from dunmist.captures import CaptureReader
from dunmist.computer.deadlined_processes import DeadlinedProcesses
from dunmist.jobs.interim_verdict import FIRST_S, InterimJudge, InterimVerdict
from dunmist.jobs.judge import judge
from dunmist.recorder import Gauge, Now
from dunmist.recorder.latest_state import Known
from dunmist.recorder.live_view import HISTORY
from dunmist.sampling import Plan, sampler
from dunmist.simulation import load_scenario
from tests.program import InFolder, capture_model
from tests.test_sampling import JumpyClock


class Screen(InFolder):
    """The screen's plain sums against the judgement of the same capture, which shares no code."""

    def looked_at(self, patient):
        path = capture_model(load_scenario(patient), self.folder / f"{patient}.gz", 12.0)
        known = Known()
        with CaptureReader(path) as reader:
            now = Now(reader.header, lambda: known)
            for record in reader.lines():
                known.add(record) if not hasattr(record, "ended_early") else None
                now.add(record)
        return now, judge(path).series

    def test_what_applications_take_is_what_the_judgement_says(self):
        now, series = self.looked_at("ringing-office")
        judged = {
            application.name: application
            for application in series.applications
            if not application.kernel
        }
        shown = {taker.name: taker for taker in now.takers.values()}
        self.assertGreater(len(shown), 5)
        for name, taker in shown.items():
            with self.subTest(name):
                item = judged[name]
                self.assertAlmostEqual(float(item.own_cores.values[-1]), taker.cores, delta=0.03)
                held = float(item.private_bytes.last() or 0.0)
                self.assertAlmostEqual(held, taker.memory_bytes, delta=max(1e6, 0.02 * held))
                self.assertEqual(
                    sorted(process.pid for process in item.living),
                    sorted(part.pid for part in taker.processes),
                )

    def test_processors_and_memory_agree_too(self):
        now, series = self.looked_at("ringing-office")
        busy = [float(processor.busy.values[-1]) for processor in series.machine.processors]
        self.assertEqual(len(busy), len(now.processors))
        for seen, counted in zip(now.processors, busy, strict=True):
            self.assertAlmostEqual(counted, seen, delta=0.02)
        total = series.machine.managed_bytes
        available = series.machine.memory_bytes("MemAvailable").last()
        self.assertAlmostEqual(1 - available / total, now.gauges["memory"].used[-1], delta=0.03)

    def test_a_disk_and_heat_have_their_names(self):
        now, series = self.looked_at("noon-copy")
        disks = {disk.name for disk in series.header.inventory.disks}
        self.assertIn(now.gauges["disk"].text, disks)
        self.assertGreater(now.gauges["disk"].used[-1], 0.7)
        hot, result = self.looked_at("cliff-top-laptop")
        self.assertAlmostEqual(result.processor_sensor.level.last(), hot.celsius, delta=1.5)
        self.assertEqual("busy", hot.gauges["heat"].word)
        # of a chip with a control value the real temperature is shown
        offset, result = self.looked_at("offset-reading")
        self.assertAlmostEqual(result.processor_sensor.level.last(), offset.celsius, delta=1.5)


class Gauges(unittest.TestCase):
    def word(self, used, held):
        gauge = Gauge("cpu")
        gauge.add(used, held)
        return gauge.word

    def test_full_is_not_held_up(self):
        for used, held, wanted in (
            (0.5, 0.9, "calm"),
            (0.7, 0.0, "busy"),
            (1.0, 0.0, "busy"),
            (1.0, None, "busy"),
            (0.8, 0.2, "strained"),
            (0.79, 0.9, "busy"),
            (0.9, 0.6, "choked"),
            (None, 0.9, "unknown"),
        ):
            with self.subTest(used=used, held=held):
                self.assertEqual(wanted, self.word(used, held))

    def test_nothing_is_fuller_than_full_and_minutes_are_kept(self):
        gauge = Gauge("disk")
        for _ in range(HISTORY + 10):
            gauge.add(1.7, -0.2, "sda")
        self.assertEqual((HISTORY, 1.0, 0.0), (len(gauge.used), gauge.used[-1], gauge.held[-1]))
        self.assertEqual("unknown", Gauge("link").word)


class Beliefs(InFolder):
    def test_only_the_same_level_limit_and_culprit_agree(self):
        interim_verdict = InterimVerdict(5.0, "choked", "cpu", "auk", 0.9, False, 0.1)
        self.assertTrue(
            interim_verdict.agrees(interim_verdict._replace(at_s=9.0, confidence=0.5, is_sure=True))
        )
        for change in ({"level": "busy"}, {"limiting": "heat"}, {"culprit": None}):
            self.assertFalse(interim_verdict.agrees(interim_verdict._replace(**change)))
        self.assertFalse(interim_verdict.agrees(None))

    def test_it_is_asked_late_enough_answers_and_rests(self):
        path = capture_model(load_scenario("ringing-office"), self.folder / "a.gz", 8.0)
        with InterimJudge() as believing:
            self.assertIsNone(believing.tick(FIRST_S - 0.1, path))
            self.assertFalse(believing._asked)
            result, until_s = believing.tick(8.0, path), time.monotonic() + 60
            while result is None and time.monotonic() < until_s:
                time.sleep(0.1)
                result = believing.tick(8.0, path)
            self.assertEqual(("cpu", "nestcam-index"), (result.limiting, result.culprit))
            # the next question waits, so that looking takes no more than its share
            self.assertIsNone(believing.tick(9.0, path))
            self.assertFalse(believing._asked)

    def test_without_an_answer_it_is_sampled_to_the_end(self):
        with InterimJudge() as believing:
            believing._child.kill()
            believing._child.wait()
            for at_s in (5.0, 6.0, 7.0):
                self.assertIsNone(believing.tick(at_s, self.folder / "none.gz"))


class Silent(unittest.TestCase):
    """A question that is never answered costs its two seconds once, or nothing."""

    SAYS = ("-c", "print('all is well')")
    NEVER = ("-c", "import time; time.sleep(600)")

    def test_who_has_answered_meanwhile_is_heard_and_the_silent_one_left(self):
        asked = DeadlinedProcesses({"auk": self.SAYS, "tern": self.NEVER})
        asked._asked["auk"].wait(60)
        time.sleep(2.2)
        began_s = time.monotonic()
        self.assertEqual({"auk": b"all is well\n", "tern": None}, asked.answers())
        self.assertLess(time.monotonic() - began_s, 1.9)
        self.assertEqual({}, asked.answers())

    def test_who_is_left_does_not_stay(self):
        asked = DeadlinedProcesses({"tern": self.NEVER})
        child = asked._asked["tern"]
        asked.leave()
        for _ in range(100):
            # nobody waited for it, so it may be there, ended
            state = Path(f"/proc/{child.pid}/stat")
            if not state.exists() or state.read_text().rpartition(")")[2].split()[0] == "Z":
                return
            time.sleep(0.05)
        self.fail("it runs on")


class Surveys(unittest.TestCase):
    """When the dear things are read: never so that the next tick is late because of them."""

    def read(self, took_s, plan, *, survey_every_s=float("inf")):
        """The order of ticks, surveys and the question to drives, with ticks that take so long."""
        clock, said = JumpyClock(), []
        tick = SimpleNamespace(processors=SimpleNamespace(times_clk={}))

        def reading(_computer, due, _plan, _elapsed_s):
            clock.at_s += took_s.get(due.number, 0.01)
            said.append(due.number)
            nobody = SimpleNamespace(appeared=[], became=[], ended=[])
            return SimpleNamespace(tick=tick, processes=nobody, sockets=nobody)

        def surveying(_computer, number, _now_s, *, is_last):
            said.append(("last" if is_last else "first", number))
            return SimpleNamespace()

        computer = SimpleNamespace(
            meanwhile=None,
            close=lambda: said.append("closed"),
            ask_drives=lambda: said.append("drives"),
        )
        with mock.patch.multiple(
            sampler, read_round=reading, survey=surveying, OpenComputer=lambda *_: computer
        ):
            machine = SimpleNamespace(processors=[])
            list(sampler.sample(None, machine, None, plan, clock, survey_every_s=survey_every_s))
        return said

    def test_on_a_quick_computer_the_first_follows_the_first_tick(self):
        self.assertEqual(
            [0, ("first", 0), 1, "drives", 2, 3, ("last", 3), "closed"],
            self.read({}, Plan(3.0, 1.0)),
        )

    def test_on_a_slow_one_it_waits_for_a_tick_that_leaves_time(self):
        self.assertEqual(
            [0, 1, ("first", 1), 2, "drives", 3, ("last", 3), "closed"],
            self.read({0: 0.7}, Plan(3.0, 1.0)),
        )

    def test_but_not_for_ever(self):
        slow = dict.fromkeys(range(9), 0.8)
        said = self.read(slow, Plan(6.0, 1.0))
        self.assertEqual(("first", 3), said[4])

    def test_a_capture_that_ends_before_has_both_all_the_same(self):
        self.assertEqual(
            [0, 1, ("first", 1), ("last", 1), "closed"], self.read({0: 0.9, 1: 0.9}, Plan(1.0, 1.0))
        )

    def test_a_run_that_goes_on_looks_again(self):
        said = self.read({}, Plan(100.0, 10.0), survey_every_s=50.0)
        self.assertEqual(
            [("first", 0), ("last", 2), ("last", 7), ("last", 10)],
            [item for item in said if isinstance(item, tuple)],
        )


if __name__ == "__main__":
    unittest.main()
