"""What is shown and believed while it goes on: the screen's figures, and when enough is known."""

import time
import unittest
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

import numpy as np
from msgspec import structs

from dunmist.captures import CaptureReader
from dunmist.computer.deadlined_processes import DeadlinedProcesses
from dunmist.diagnosis import LEVELS
from dunmist.jobs.interim_verdict import FIRST_S, InterimJudge, InterimVerdict
from dunmist.jobs.judge import judge
from dunmist.recorder import Gauge, Now
from dunmist.recorder.gauges import HISTORY, Figures
from dunmist.recorder.latest_state import Known
from dunmist.sampling import Event, Plan, ProcessLine, Tick, sampler
from dunmist.sampling.deltas import Counters, Deltas, ReadTime
from dunmist.simulation import load_scenario
from dunmist.thresholds import thresholds
from tests.handmade import facts, sample
from tests.program import InFolder, capture_model
from tests.sampling.test_sampling import JumpyClock

# a mean over the whole capture is known to the live view from its second half on
YOUNG = 8


class Screen(InFolder):
    """The live view against the triage of the same capture."""

    def looked_at(self, patient, after=lambda row, now: None):
        """Follow a capture as if it were being recorded; ``after`` sees each interval."""
        path = capture_model(load_scenario(patient), self.folder / f"{patient}.gz", 16.0)
        known, row = Known(), 0
        with CaptureReader(path) as reader:
            now = Now(reader.header, lambda: known, thresholds())
            deltas = Deltas(reader.header.machine)
            for record in reader.lines():
                if hasattr(record, "ended_early"):
                    continue
                known.add(record)
                interval = deltas.add(record)
                now.add(record, interval)
                if interval is not None:
                    after(row, now)
                    row += 1
        return now, judge(path)

    def test_levels_and_the_busiest_are_those_of_the_triage_in_each_interval(self):
        for patient in (
            "ringing-office",
            "errands",
            "flooded-burrow",
            "noon-copy",
            "busy-ferry",
            "still-fan",
            "waking-index",
            "week-after-update",
            "calm-morning",
        ):
            live = []

            def after(row, now, live=live):
                levels = {name: (g.level, g.text) for name, g in now.gauges.items()}
                busiest = max(now.applications.values(), key=lambda app: app.cores)
                live.append((levels, busiest.name))

            _, judged = self.looked_at(patient, after)
            with self.subTest(patient):
                self.assertEqual(judged.series.line.intervals, len(live))
                for row, (levels, busiest) in enumerate(live[YOUNG:], YOUNG):
                    self.same_levels(row, levels, judged.diagnosis.resources)
                    self.assertEqual(self.busiest(judged.series, row), busiest, row)

    def same_levels(self, row, live, states):
        for state in states:
            level, name = live.get(state.resource, (None, ""))
            if state.trace is not None and level is not None and name in ("", state.name):
                told = LEVELS[state.trace.levels[row]]
                self.assertEqual(told, level, f"{state.resource}, interval {row}")

    def busiest(self, series, row):
        programs = [app for app in series.applications if not app.observer and not app.kernel]
        return max(programs, key=lambda app: np.nan_to_num(app.own_cores.values[row])).name

    def test_what_applications_take_is_what_the_judgement_says(self):
        now, judged = self.looked_at("ringing-office")
        by_name = {app.name: app for app in judged.series.applications if not app.kernel}
        shown = {app.name: app for app in now.applications.values()}
        self.assertGreater(len(shown), 5)
        for name, live in shown.items():
            with self.subTest(name):
                item = by_name[name]
                self.assertAlmostEqual(float(item.own_cores.values[-1]), live.cores, delta=0.001)
                moved = float(item.disk_bytes_per_s.values[-1])
                self.assertAlmostEqual(moved, live.disk_bytes_per_s, delta=1.0)
                held = float(item.private_bytes.last() or 0.0)
                self.assertAlmostEqual(held, live.memory_bytes, delta=max(1e6, 0.02 * held))
                self.assertEqual(
                    sorted(process.pid for process in item.living),
                    sorted(part.pid for part in live.processes),
                )

    def test_what_is_started_again_and_again_belongs_to_who_starts_it(self):
        path = capture_model(load_scenario("calm-morning"), self.folder / "calm.gz", 30.0)
        with CaptureReader(path) as reader:
            header = reader.header
            ticks = [line for line in reader.lines() if isinstance(line, Tick)]
        known, deltas = Known(), Deltas(header.machine)
        now = Now(header, lambda: known, thresholds())
        # a program comes at each tick and is gone two ticks later
        for row, tick in enumerate(ticks):
            first, pid = row == 0, 100 + row
            born = [facts(10, name="worker"), facts(pid, 10, name="gzip")]
            lines = [ProcessLine(row + n, row, born[n]) for n in ((0, 1) if first else (1,))]
            gone = [Event("exit", row, processes=[row - 1])] if row > 1 else []
            samples = [sample(0, row), sample(row + 1, 5)]
            now_tick = structs.replace(tick, processes=samples, threads=[], details=[])
            for record in (*lines, *gone, now_tick):
                known.add(record)
                now.add(record, deltas.add(record))
        (worker,) = now.applications.values()
        self.assertEqual("worker", worker.name)
        self.assertEqual([10, 129, 130], sorted(part.pid for part in worker.processes))

    def test_cpus_and_memory_agree_too(self):
        now, judged = self.looked_at("ringing-office")
        machine = judged.series.machine
        busy = [float(processor.busy.values[-1]) for processor in machine.processors]
        self.assertEqual(len(busy), len(now.cpus))
        for seen, counted in zip(now.cpus, busy, strict=True):
            self.assertAlmostEqual(counted, seen)
        available = machine.memory_bytes("MemAvailable").last()
        used = 1 - available / machine.managed_bytes
        self.assertAlmostEqual(used, now.gauges["memory"].used[-1], delta=0.001)

    def test_a_disk_and_heat_have_their_names(self):
        now, judged = self.looked_at("noon-copy")
        disks = {disk.name for disk in judged.series.header.inventory.disks}
        self.assertIn(now.gauges["disk"].text, disks)
        self.assertGreater(now.gauges["disk"].used[-1], 0.7)
        # of a chip with a control value the real temperature is shown
        for patient in ("cliff-top-laptop", "offset-reading"):
            hot, judged = self.looked_at(patient)
            last = judged.series.processor_sensor.level.last()
            self.assertAlmostEqual(last, hot.celsius, delta=0.01)


class Gauges(unittest.TestCase):
    def test_nothing_is_fuller_than_full_and_minutes_are_kept(self):
        gauge = Gauge("disk")
        for _ in range(HISTORY + 10):
            gauge.add(Figures(1.7, -0.2, "busy", "sda"))
        self.assertEqual((HISTORY, 1.0, 0.0), (len(gauge.used), gauge.used[-1], gauge.held[-1]))


class Counting(unittest.TestCase):
    """The rules for the differences of counters, as the series of a capture have them."""

    def grown(self, readings, base=None, **rules):
        """Return a second's growth of (row, after, figure), an interval of 2 s each."""
        counters = Counters(**rules)
        return [
            counters.per_second("auk", [figure], ReadTime(row, 2.0 * row, after_s), 2.0, base)[0]
            for row, after_s, figure in readings
        ]

    def test_each_rule(self):
        for what, readings, rules, wanted in (
            ("first sight", [(1, 0, 50), (2, 0, 54)], {}, [None, 2.0]),
            ("began inside", [(1, 0, 50), (2, 0, 54)], {"base": 0.0}, [25.0, 2.0]),
            ("reset", [(1, 0, 50), (2, 0, 4), (3, 0, 8)], {}, [None, None, 2.0]),
            ("falls back a little", [(1, 0, 50), (2, 0, 49)], {"forgiven": 2.0}, [None, 0.0]),
            ("not read", [(1, 0, 50), (2, 0, None), (3, 0, 90)], {}, [None, None, None]),
            ("read late", [(1, 0, 50), (2, 0.5, 60)], {}, [None, 4.0]),
            ("read late, an amount", [(1, 0, 50), (2, 0.5, 60)], {"timely": False}, [None, 5.0]),
            ("stood still before", [(1, 0.5, 50), (3, 0, 60)], {}, [None, 5.0]),
            ("hardly apart", [(1, 1.99, 50), (2, 0, 60)], {}, [None, None]),
        ):
            with self.subTest(what):
                self.assertEqual(wanted, self.grown(readings, **rules))

    def test_what_is_gone_is_forgotten(self):
        counters = Counters()
        counters.per_second("auk", [9], ReadTime(0, 0.0), 0.0)
        self.assertEqual(["auk"], list(counters))
        counters.forget("auk")
        self.assertEqual((None,), counters.per_second("auk", [12], ReadTime(1, 2.0), 2.0))


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

    def test_what_was_printed_in_time_can_be_had_of_who_never_ends(self):
        says = ("-c", "import time; print('half', flush=True); time.sleep(600)")
        for partial, expected in ((True, b"half\n"), (False, None)):
            asked = DeadlinedProcesses({"skua": says}, deadline_s=5.0 if partial else 0.1)
            self.assertEqual({"skua": expected}, asked.answers(partial=partial))

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
            pause_s=lambda: None,
            close=lambda: said.append("closed"),
            ask_drives=lambda: said.append("drives"),
        )
        beside = {
            "read_round": reading,
            "begin_survey": lambda _computer, _now_s, until_s: said.append(
                ("ahead", round(until_s - clock.at_s, 3))
            ),
            "survey": surveying,
            "OpenComputer": lambda *_, **__: computer,
        }
        with mock.patch.multiple(sampler, **beside):
            machine = SimpleNamespace(processors=[])
            list(sampler.sample(None, machine, None, plan, clock, survey_every_s=survey_every_s))
        return said

    def test_on_a_quick_computer_the_first_follows_the_first_tick(self):
        self.assertEqual(
            [0, ("first", 0), 1, "drives", 2, ("ahead", 0.89), 3, ("last", 3), "closed"],
            self.read({}, Plan(3.0, 1.0)),
        )

    def test_on_a_slow_one_it_waits_for_a_tick_that_leaves_time(self):
        self.assertEqual(
            [0, 1, ("first", 1), 2, "drives", ("ahead", 0.89), 3, ("last", 3), "closed"],
            self.read({0: 0.7}, Plan(3.0, 1.0)),
        )

    def test_but_not_for_ever(self):
        slow = dict.fromkeys(range(9), 0.8)
        said = self.read(slow, Plan(6.0, 1.0))
        self.assertEqual(("first", 3), said[4])

    def test_a_capture_that_ends_before_has_both_all_the_same(self):
        self.assertEqual(
            [0, 1, ("first", 1), ("last", 1), "closed"],
            self.read({0: 0.95, 1: 0.95}, Plan(1.0, 1.0)),
        )

    def test_a_run_that_goes_on_looks_again(self):
        said = self.read({}, Plan(100.0, 10.0), survey_every_s=50.0)
        self.assertEqual(
            [("first", 0), ("last", 2), ("last", 7), ("last", 10)],
            [item for item in said if isinstance(item, tuple) and item[0] != "ahead"],
        )


if __name__ == "__main__":
    unittest.main()
