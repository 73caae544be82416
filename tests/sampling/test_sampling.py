"""The sampler on a clock of the test's own: even pace, lateness, gaps, sleep."""

import os
import shutil
import unittest
from collections import Counter
from datetime import UTC, datetime, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory
from types import SimpleNamespace
from typing import ClassVar
from unittest.mock import patch

import msgspec

from dunmist.computer import (
    CodePoint,
    Inventory,
    Mapping,
    QueueSample,
    Root,
    TaskExit,
    read_machine,
)
from dunmist.sampling import SOURCES, Event, Plan, sample
from dunmist.sampling.busy_threads import BusyThreads
from dunmist.sampling.code_sampler import CodeSampler
from dunmist.sampling.exited_tasks import sum_exits
from dunmist.sampling.pace import pace
from dunmist.sampling.process_table import ProcessRound
from dunmist.sampling.registry import Cadence, Changes
from dunmist.simulation import ComputerTree, ModelComputer, VirtualClock, load_scenario


class JumpyClock:
    """Moves only when it waits or is told to."""

    frame_early_s = None

    def __init__(self):
        self.at_s = 100.0
        self.asleep_s = 0.0

    def monotonic_s(self):
        return self.at_s

    def boottime_s(self):
        return self.at_s + self.asleep_s

    def now(self):
        return datetime(2031, 5, 14, tzinfo=UTC) + timedelta(seconds=self.at_s)

    def sleep_until(self, monotonic_s):
        self.at_s = max(self.at_s, monotonic_s)
        return True


SIX_TICKS = Plan(5.0, 1.0)


def ticks(took_s, plan=SIX_TICKS):
    """Return number, start, lateness and misses of ticks that take the given times."""
    clock = JumpyClock()
    taken = []
    for due in pace(plan, clock):
        taken.append((due.number, due.at_s, due.is_late(plan.every_s), due.missed))
        clock.at_s += took_s.get(due.number, 0.0)
    return taken


class Pace(unittest.TestCase):
    def test_ticks_do_not_drift(self):
        plan = Plan(30.0, 0.1)
        taken = ticks(dict.fromkeys(range(301), 0.03), plan)
        self.assertEqual(301, len(taken))
        self.assertAlmostEqual(30.0, taken[-1][1])

    def test_a_slow_tick_makes_the_next_late_and_shortens_no_other(self):
        taken = ticks({1: 1.4})
        self.assertEqual([0, 1, 2, 3, 4, 5], [number for number, *_ in taken])
        self.assertEqual(
            [False, False, True, False, False, False], [late for _, _, late, _ in taken]
        )
        self.assertAlmostEqual(3.0, taken[3][1])

    def test_what_cannot_be_taken_is_missed(self):
        taken = ticks({1: 2.5})
        self.assertEqual([(0, 0), (1, 0), (3, 1), (4, 0), (5, 0)], [(n, m) for n, _, _, m in taken])

    def test_a_plan_counts_both_ends(self):
        for duration_s, every_s, intervals in (
            (30, 1, 30),
            (4, 0.25, 16),
            (1, 0.3, 3),
            (0.3, 0.1, 3),
        ):
            self.assertEqual(intervals, Plan(duration_s, every_s).intervals)


class Waiting(unittest.TestCase):
    def test_a_long_interval_is_waited_out_in_pieces(self):
        clock, calls = JumpyClock(), []
        due = [item.at_s for item in pace(Plan(10.0, 5.0), clock, lambda: calls.append(clock.at_s))]
        self.assertEqual([0.0, 5.0, 10.0], due)
        self.assertEqual(6, len(calls))

    def test_what_is_dear_is_read_seldom_but_first_and_last(self):
        cadence = Cadence()
        read = [
            at_s for at_s in range(26) if cadence.is_due("interrupts", 10.0, at_s, last=at_s == 25)
        ]
        self.assertEqual([0, 8, 16, 24, 25], read)


def gone(tid, pid, ppid, elapsed_s=0.01, name="auk"):
    return TaskExit(pid, tid, ppid, 1004, name, int(elapsed_s * 1e6), 100, 200, 1, 2, 3, 4, 5)


class Gone(unittest.TestCase):
    def test_a_queue_of_a_link_that_is_gone_is_empty_once(self):
        (source,) = (item for item in SOURCES if item.fields == ("queues",))
        changes = Changes()
        full = [QueueSample("eth0", 9000, 3), QueueSample("veth1", 40_000, 7)]
        self.assertEqual(full, changes.of(source, full))
        self.assertEqual([], changes.of(source, full))
        self.assertEqual([QueueSample("veth1", 0, 7)], changes.of(source, full[:1]))
        self.assertEqual([], changes.of(source, full[:1]))
        # one of that name may come again
        self.assertEqual(full[1:], changes.of(source, full))


class Table:
    """Knows one process, number 7 since a second, as identity 3; number 9 is identity 4."""

    def number_of(self, pid, elapsed_least_s=None):
        known = {7: (3, 1.0), 9: (4, 0.0)}.get(pid)
        if known is None or (elapsed_least_s is not None and elapsed_least_s < known[1]):
            return None
        return known[0]


class Exits(unittest.TestCase):
    def sums(self, *exits, ended=None):
        result = sum_exits(list(exits), Table(), ProcessRound(ended=ended or {}))
        return {(item.process, item.parent, item.name): item for item in result}

    def test_unseen_ones_go_to_the_nearest_ancestor_that_was_seen(self):
        sums = self.sums(gone(30, 30, 7), gone(31, 31, 30), gone(32, 32, 31), gone(33, 33, 99))
        self.assertEqual((3, 300), (sums[None, 3, "auk"].tasks, sums[None, 3, "auk"].run_ns))
        self.assertEqual(1, sums[None, None, "auk"].tasks)

    def test_threads_belong_to_their_process(self):
        sums = self.sums(gone(70, 7, 1), gone(71, 7, 1))
        self.assertEqual([(3, None, "")], list(sums))

    def test_a_number_that_was_given_away_again_is_another_process(self):
        # it lived for a hundredth of a second, the one with that number is known for a second
        self.assertEqual([(None, 4, "auk")], list(self.sums(gone(7, 7, 9))))
        self.assertEqual([(3, None, "")], list(self.sums(gone(7, 7, 9, elapsed_s=5.0))))

    def test_one_that_ended_since_the_tick_before_is_known_by_its_number(self):
        self.assertEqual([(8, None, "")], list(self.sums(gone(50, 50, 1), ended={8: 50})))

    def test_a_circle_of_parents_ends(self):
        self.assertEqual([(None, None, "auk")], list(self.sums(gone(40, 40, 41), gone(41, 41, 40))))


class CrowdsOfThreads(unittest.TestCase):
    """Process 7 has 1,300 threads, of which only the last one runs."""

    def setUp(self):
        self.directory = self.enterContext(TemporaryDirectory())
        self.root = Root(Path(self.directory))
        self.addCleanup(self.root.close)
        for tid in range(10_000, 11_300):
            self.write(tid, 5)
        self.busy = BusyThreads(self.root, 100)

    def write(self, tid, run_ns, pid=7):
        place = Path(self.directory) / f"proc/{pid}/task/{tid}"
        place.mkdir(parents=True, exist_ok=True)
        (place / "schedstat").write_text(f"{run_ns} 0 1\n")
        (place / "comm").write_text("auk\n")

    def read(self, *busy):
        self.busy.watch(Counter(dict.fromkeys(busy or ("7",), 90)), 1.0)
        return {(item.tid, item.name): item.run_ns for item in self.busy.read(int, lambda: 0)}

    def test_the_one_that_runs_is_found_and_then_read_in_every_round(self):
        result = []
        for row in range(13):
            self.write(11_299, 1000 * (row + 1))
            result.append(list(self.read()))
        self.assertEqual([256] * 5 + [20], [len(item) for item in result[:6]])
        # its name says that it was not read in the round before; then its growth is that of one
        self.assertEqual([[(11_299, "auk")], [(11_299, None)], [(11_299, None)]], result[-3:])

    def test_who_was_not_read_meanwhile_begins_anew(self):
        for tid in range(10_010, 11_300):
            shutil.rmtree(Path(self.directory) / f"proc/7/task/{tid}")
        self.assertEqual(10, len(self.read()))
        for pid in range(20, 28):
            self.write(pid, 5, pid)
        self.write(10_003, 2000)
        self.assertEqual({(10_003, None): 2000}, self.read())
        self.read(*map(str, range(20, 28)))  # eight others are busier
        self.write(10_003, 9000)
        self.assertEqual(9000, self.read()[10_003, "auk"])

    def test_a_thread_that_went_and_came_begins_anew(self):
        self.read()
        shutil.rmtree(Path(self.directory) / "proc/7/task/10005")
        self.read()
        self.write(10_005, 70)
        rounds = [self.read() for _ in range(4)]
        self.assertEqual(
            [70], [round[10_005, "auk"] for round in rounds if (10_005, "auk") in round]
        )


class Jumps(unittest.TestCase):
    def test_sleep_and_a_wall_clock_that_is_set_are_events(self):
        class Odd(VirtualClock):
            """Sleeps before the third tick, and is set back before the fifth."""

            def boottime_s(self):
                return super().boottime_s() + (3600.0 if self.monotonic_s() >= 2 else 0.0)

            def now(self):
                # the wall clock goes on during the sleep
                later = 3600.0 if self.monotonic_s() >= 2 else 0.0
                later -= 50.0 if self.monotonic_s() >= 4 else 0.0
                return super().now() + timedelta(seconds=later)

        with TemporaryDirectory() as directory:
            model = ModelComputer(load_scenario("calm-morning"))
            tree = ComputerTree(model, Path(directory))
            root = Root(Path(directory))
            records = sample(
                root, read_machine(root), Inventory(), Plan(6.0, 1.0), Odd(model, tree)
            )
            events = [
                (record.what, record.tick, record.seconds)
                for record in records
                if isinstance(record, Event) and record.seconds
            ]
            tree.close()
            root.close()
        self.assertEqual([("asleep", 2, 3600.0), ("clock-set", 4, -50.0)], events)


class AskedFunctions(unittest.TestCase):
    """Which addresses a child is asked about: whose, and when for a second time."""

    def asked(self, *rounds, own=None, span_s=10.0):
        """Return for each question the processes whose addresses are in it.

        A round has for each process how many samples it gave at how many addresses.
        """
        events = SimpleNamespace(lost=0, garbled=0, drain=lambda: self.points, close=lambda: None)
        sampler = CodeSampler(Root(Path("/")), events)
        self.addCleanup(sampler.close)
        mapped = 1 << 20
        sampler._read_maps = lambda pid: False
        for number in range(9):
            place = Mapping(mapped, 2 * mapped, 0, f"/opt/skerrow/{number}")
            sampler._maps[number] = [place]
        found = []
        with patch("dunmist.sampling.code_sampler.DeadlinedProcesses", Silent):
            for each in rounds:
                self.points = [
                    CodePoint(pid, pid, mapped + base + at % addresses, False)
                    for pid, (samples, addresses, base) in each.items()
                    for at in range(samples)
                ]
                sampler.read(lambda pid: pid)
                before = len(Silent.questions)
                sampler.ask_functions(own, span_s)
                told = Silent.questions[before:]
                found.append(
                    {Path(part["paths"][-1]).name for one in told for part in one["parts"]}
                )
        return found

    def test_who_is_asked_about(self):
        # a culprit with few of the samples, the sampler itself, and who hardly ran
        (told,) = self.asked({1: (900, 30, 0), 2: (60, 6, 0), 3: (9, 3, 0)}, own=1)
        self.assertEqual({"2"}, told)

    def test_a_second_question_is_for_what_is_more_than_a_little(self):
        first = {1: (100, 10, 0)}
        for case, second, expected in (
            ("the same addresses", {1: (100, 10, 0)}, set()),
            ("a few new ones", {1: (20, 5, 500)}, set()),
            ("many new ones", {1: (80, 5, 500)}, {"1"}),
            ("somebody new", {4: (300, 5, 0)}, {"4"}),
        ):
            with self.subTest(case):
                self.assertEqual([{"1"}, expected], self.asked(first, second))


class Silent:
    """A child that notes its question and says nothing."""

    questions: ClassVar = []

    def __init__(self, _, *, given, **__):
        self.questions.append(msgspec.json.decode(os.pread(given, 1 << 20, 0)))

    def answers(self, **_):
        return {"": b""}

    def leave(self):
        pass
