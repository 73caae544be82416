"""Figures out of raw counters: one time line, one rule for differences, owners, what cannot be."""

import dataclasses
import gzip
import json
import os
import subprocess
import sys
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from types import SimpleNamespace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from dunmist.applications import Grouping
from dunmist.computer import Disk, DiskSample, Link, LinkSample, Sensor, SocketFacts, SocketSample
from dunmist.jobs.judge import judge
from dunmist.sampling import ExitSum
from dunmist.series import Level, Rate, TimeLine, memory_breakdown
from dunmist.series.conservation import Impossible
from dunmist.series.counters import Readings, increments
from dunmist.series.devices import DeviceCollector
from dunmist.series.memory_breakdown import UNNAMED
from dunmist.series.processes import Shared, process_series
from dunmist.series.reaped_bytes import whole_bytes, without_reaped
from dunmist.series.samples import CaptureContext, ProcessCollector
from dunmist.series.sensors import sensor_series
from dunmist.series.sockets import SocketCollector, network_use
from dunmist.series.unsampled_usage import ChildTime, late_use
from dunmist.series.wait_kinds import NOT_WAITING, WAIT_KINDS, wait_code
from tests.handmade import facts, level, line, rate, sample
from tests.program import InFolder

NAN = float("nan")


def at_once(field):
    """All of a tick was read at its beginning."""
    return 0.0


def impossible(on):
    return Impossible(on, np.zeros(on.ticks))


class Figures(unittest.TestCase):
    def test_means_and_quantiles_weigh_what_intervals_lasted(self):
        uneven = TimeLine(np.array([0.0, 1.0, 2.0, 5.0]))
        late = Rate(uneven, np.array([1.0, 1.0, 0.1]))
        self.assertAlmostEqual(0.46, late.mean())
        self.assertAlmostEqual(2.3, late.total())
        self.assertEqual(0.1, late.quantile(0.5))

    def test_a_stretch_of_several_periods_without_a_tick_is_in_no_rate(self):
        for case, at_s, every_s, gaps in (
            ("the computer stood still", [0, 1, 2, 203, 204], 1.0, [2]),
            ("one tick was late by two periods", [0, 1, 2, 5, 6], 1.0, []),
            ("each tick takes longer than a period", [0, 6, 12, 18.5, 24], 1.0, []),
            ("ticks that make up for late ones", [0, 5.3, 5.5, 10.3, 10.5, 15.3, 15.5], 1.0, []),
            ("one of them makes up for a sleep", [0, 1, 2, 3, 64, 64.1, 65], 1.0, [3]),
            ("dense ticks are late easily", [0, 0.1, 0.2, 1.2, 1.3], 0.1, []),
            ("there is one interval only", [0, 30], 1.0, []),
            ("nobody said how far apart", [0, 10, 20, 300], 0.0, [2]),
        ):
            on = TimeLine(np.array(at_s, dtype=float), every_s)
            with self.subTest(case):
                self.assertEqual(gaps, list(np.flatnonzero(on.is_gap)))
        on = TimeLine(np.array([0.0, 1.0, 2.0, 203.0, 204.0]), 1.0)
        self.assertEqual((204.0, 3.0, 201.0), (on.duration_s, on.measured_s, on.gap_s))
        readings = Readings("count")
        for row, count in enumerate((0, 10, 20, 5000, 5010)):
            readings.add(row, "tern", [count])
        grown = readings.over(on)["tern"].rate("count")
        np.testing.assert_array_equal([10, 10, NAN, 10], grown.values)
        # a condition that is not met in it weighs nothing either
        self.assertAlmostEqual(1.0, grown.at_least(10.0).mean(), places=5)
        self.assertEqual(30, round(grown.known_or(0.0).total()))
        # what happened in it happened all the same
        self.assertEqual(5010, readings.over(on)["tern"].grown_in_all("count"))

    def test_what_lasts_ignores_a_spike_and_one_odd_interval(self):
        for values, expected in (
            ([1, 1, 1, 0, 0, 0, 0, 0, 0, 0], 0.0),
            ([1, 1, 1, 1, 0, 1, 1, 1, 1, 1], 1.0),
            ([NAN] * 5 + [0.5] * 5, 0.5),
            ([NAN] * 4, 0.0),
        ):
            with self.subTest(values):
                self.assertEqual(expected, rate(values).quantile(0.5))
        self.assertEqual(4.0, rate([1, 2, 3, 4, 5]).quantile(0.75))

    def test_unknown_is_neither_nought_nor_met(self):
        some = rate([NAN, 2.0, 4.0])
        self.assertEqual((3.0, 2.0, 4.0), (some.mean(), some.least(), some.greatest()))
        self.assertEqual([0, 0, 1], list(some.at_least(3.0).values))
        self.assertEqual([0, 1, 0], list(some.at_most(3.0).values))
        unknown = Level.unknown(line(3))
        self.assertEqual(
            (None,) * 4, (unknown.least(), unknown.greatest(), unknown.median(), unknown.last())
        )
        self.assertIsNone(rate([NAN]).known_mean())

    def test_a_level_comes_to_intervals_at_their_ends(self):
        held = level([1.0, 2.0, 4.0])
        self.assertEqual([2.0, 4.0], list(held.at_ends().values))
        self.assertEqual(3.0, held.change())
        moved = rate([2.0, 4.0]).at_ticks().values
        self.assertTrue(np.isnan(moved[0]))
        self.assertEqual([2.0, 4.0], list(moved[1:]))

    def test_both_types_refuse_each_others_length_and_bare_arrays(self):
        on = line(3)
        with self.assertRaises(ValueError):
            Rate(on, np.zeros(4))
        with self.assertRaises(ValueError):
            Level(on, np.zeros(3))
        with self.assertRaises(TypeError):
            np.zeros(3) + Rate.nothing(on)

    def test_mixing_levels_and_rates_fails_in_the_type_check(self):
        mixed = (
            "from dunmist.series import Level, Rate\n"
            "def f(level: Level, rate: Rate) -> Rate:\n    return {}\n"
        )
        for text, right in (
            ("rate + rate", True),
            ("level.at_ends() - rate", True),
            ("rate + level", False),
            ("level", False),
            ("rate.where(level)", False),
        ):
            with self.subTest(text), TemporaryDirectory() as folder:
                path = Path(folder) / "mixed.py"
                path.write_text(mixed.format(text))
                done = subprocess.run(
                    [
                        sys.executable,
                        "-m",
                        "mypy",
                        "--strict",
                        "--cache-dir",
                        "/tmp/dunmist-mypy",
                        "--config-file",
                        "pyproject.toml",
                        str(path),
                    ],
                    capture_output=True,
                    text=True,
                    check=False,
                    env={**os.environ, "MYPYPATH": "src"},
                )
                self.assertEqual(right, done.returncode == 0, done.stdout)

    def test_a_curve_is_the_mean_of_equal_stretches(self):
        self.assertEqual([0.5, 2.5], rate([0.0, 1.0, 2.0, 3.0]).curve(2))
        self.assertEqual([1.0, 3.0], rate([0.0, 1.0, 2.0, 3.0]).peaks(2))
        self.assertEqual([1.0, 2.0], rate([1.0, 2.0]).curve(12))
        self.assertEqual([None, 4.0], rate([NAN, NAN, 4.0, NAN]).curve(2))


class Counters(unittest.TestCase):
    """One rule for differences, whatever is counted."""

    def track(self, *readings, intervals=4, every_s=1.0):
        collected = Readings("count")
        for row, value in readings:
            collected.add(row, "tern", [value])
        return collected.over(line(intervals, every_s))["tern"]

    def rates(self, *readings, **how):
        result = self.track(*readings).rate("count", **how).values
        return [None if np.isnan(item) else float(item) for item in result]

    def test_the_rule(self):
        for case, readings, how, expected in (
            ("each tick", [(0, 5), (1, 7), (2, 7), (3, 9), (4, 9)], {}, [2, 0, 2, 0]),
            ("only what changed is there", [(0, 5), (3, 9)], {}, [0, 0, 4, 0]),
            ("a reset is unknown", [(0, 5), (1, 7), (2, 3), (3, 4), (4, 4)], {}, [2, None, 1, 0]),
            (
                "falls back a little",
                [(0, 50), (1, 48), (2, 60), (4, 61)],
                {"forgives": 5},
                [0, 12, 0, 1],
            ),
            ("seen later: unknown before", [(2, 100), (3, 103)], {}, [None, None, 3, 0]),
            ("began inside: all is growth", [(2, 100), (3, 103)], {"base": 0.0}, [None, 100, 3, 0]),
            (
                "a reading that says nothing",
                [(0, 5), (1, None), (3, 9), (4, 10)],
                {},
                [None, None, None, 1],
            ),
            ("wraps", [(0, 95), (1, 3)], {"wraps_at": 100}, [8, 0, 0, 0]),
            (
                "read seldom: grew evenly",
                [(0, 0), (4, 40)],
                {"read_every_s": 4.0},
                [10, 10, 10, 10],
            ),
        ):
            with self.subTest(case):
                self.assertEqual(expected, self.rates(*readings, **how))

    def test_a_reading_counts_for_the_time_since_its_own_last_one(self):
        # 100 a second all the time; the first tick took long and reached this one after 0.6 s
        for case, readings, expected in (
            ("read late once", [(0, 60, 0.6), (1, 100, 0.0), (2, 200, 0.0)], [100, 100, 0, 0]),
            ("always late", [(0, 60, 0.6), (1, 160, 0.6), (2, 260, 0.6)], [100, 100, 0, 0]),
            ("later and later", [(0, 0, 0.0), (1, 150, 0.5), (2, 290, 0.9)], [100, 100, 0, 0]),
            ("too near", [(0, 99, 0.99), (1, 100, 0.0), (2, 200, 0.0)], [None, 100, 0, 0]),
            # when it was read at the tick between them nobody knows
            ("it stood still between", [(0, 60, 0.6), (2, 160, 0.0)], [0, 100, 0, 0]),
        ):
            collected = Readings("count")
            for row, value, after_s in readings:
                collected.add(row, "tern", [value], after_s)
            result = collected.over(line(4))["tern"].rate("count").values
            with self.subTest(case):
                self.assertEqual(
                    expected, [None if np.isnan(item) else round(float(item), 6) for item in result]
                )

    def test_sparse_and_dense_readings_follow_the_same_rule(self):
        values = np.array([5.0, 7.0, 3.0, 4.0, 100.0, 103.0])
        same = np.array([False, True, True, True, False, True])
        grown = increments(values, same, np.array([NAN] * 4 + [0.0, NAN]))
        np.testing.assert_array_equal([NAN, 2.0, NAN, 1.0, 100.0, 3.0], grown)

    def test_what_was_not_read_again_stands_still(self):
        held = self.track((1, 5), (3, 9)).level("count").values
        np.testing.assert_array_equal([NAN, 5, 5, 9, 9], held)

    @given(st.lists(st.integers(0, 1000), min_size=5, max_size=5))
    def test_what_grew_in_all_is_what_the_intervals_have(self, steps):
        totals = np.cumsum(steps)
        readings = list(enumerate(float(total) for total in totals))
        self.assertAlmostEqual(totals[-1] - totals[0], self.track(*readings).rate("count").total())

    def test_power_is_the_same_however_often_it_is_sampled(self):
        # an energy counter is read once a second, ticks may be more frequent
        sensor = Sensor("powercap", "x", "energy", "energy", "p", wraps_at=10_000_000)
        for every_s in (0.1, 1.0):
            collected, on = Readings("raw"), line(round(4 / every_s), every_s)
            for second in range(5):
                collected.add(round(second / every_s), 0, [7_000_000 * second % 10_000_000])
            (result,) = sensor_series(collected.over(on), [sensor], on, [])
            with self.subTest(every_s):
                np.testing.assert_allclose(7.0, result.watts.values)


class Conserved(unittest.TestCase):
    def test_a_share_is_at_most_one_and_what_is_far_above_is_dropped_and_counted(self):
        on = line(3)
        result = impossible(on)
        kept = result.share("busy time", rate([0.5, 1.05, 518.0], on))
        np.testing.assert_array_equal([0.5, 1.0, NAN], kept.values)
        self.assertEqual({"busy time": 1}, dict(+result.dropped))


class Processes(unittest.TestCase):
    """Two processors, one clock tick is a hundredth of a second, the capture began at 1,000 s."""

    def made(self, samples, known, ended=(), threads=(), on=None):
        """``samples`` are (row, identity, clock ticks), ``known`` facts by identity and row."""
        on, collected, grouping = on or line(4), ProcessCollector(), Grouping(None)
        for identity, (row, about) in known.items():
            grouping.add(identity, about)
            collected.first_row[identity] = row
        for row in range(on.ticks):
            collected.add(
                row,
                SimpleNamespace(
                    processes=[
                        sample(item, clk, delay_ns=0, threads=2, after_ms=sum(after))
                        for at, item, clk, *after in samples
                        if at == row
                    ],
                    threads=[
                        SimpleNamespace(
                            process=item,
                            tid=tid,
                            run_ns=int(ran * 1e9),
                            delay_ns=int(waited * 1e9),
                            name="".join(anew) or None,
                            after_ms=0,
                        )
                        for at, item, tid, ran, waited, *anew in threads
                        if at == row
                    ],
                    exits=[],
                    details=[],
                ),
            )
        collected.ended_row.update(dict(ended))
        grouping.order_by_parent()
        result = impossible(on)
        about = SimpleNamespace(clock_ticks_per_s=100, page_bytes=4096)
        around = CaptureContext(grouping, about, rate(2.0, on), 1000.0, result, {})
        nothing = np.zeros((on.intervals, len(grouping.groups)))
        return process_series(collected, around, Shared(nothing, nothing, nothing)), result

    def cores(self, process):
        return [None if np.isnan(value) else float(value) for value in process.cores.values]

    def test_what_was_used_before_the_capture_is_not_used_in_it(self):
        # one that could not be read at first, one that really began inside
        for start_clk, expected in (
            (500, [None, None, 0.5, 0.0]),
            (100_150, [None, 0.7, 0.5, 0.0]),
        ):
            series, dropped = self.made(
                [(2, 1, 70), (3, 1, 120)], {1: (2, facts(9, start_clk=start_clk))}
            )
            process = series.by_identity[1]
            with self.subTest(start_clk):
                self.assertEqual(expected, self.cores(process))
                self.assertEqual(start_clk > 100_000, process.started_inside)
                self.assertAlmostEqual(sum(filter(None, expected)), process.cpu_s)
                self.assertFalse(+dropped.dropped)

    def test_a_process_that_was_read_late_in_a_long_tick_is_as_busy_as_it_was(self):
        # full all the time, of which the first tick read it after 0.7 s only
        samples = [(0, 1, 70, 700), (1, 1, 100), (2, 1, 200), (3, 1, 300), (4, 1, 400)]
        series, result = self.made(samples, {1: (0, facts(9))})
        self.assertEqual([1.0] * 4, [round(core, 6) for core in self.cores(series.by_identity[1])])
        self.assertAlmostEqual(4.0, series.by_identity[1].cpu_s)
        self.assertAlmostEqual(4.0, series.applications[0].cores.total())
        self.assertFalse(+result.dropped)

    def test_nothing_uses_more_processors_than_there_are(self):
        series, result = self.made(
            [(0, 1, 0), (1, 1, 100), (2, 1, 51_900), (3, 1, 52_000)], {1: (0, facts(9))}
        )
        self.assertEqual([1.0, None, 1.0, 0.0], self.cores(series.by_identity[1]))
        self.assertEqual({"CPU time of processes": 1}, dict(+result.dropped))
        # each for itself is possible, both together are not
        known = {1: (0, facts(8)), 2: (0, facts(9))}
        series, result = self.made([(0, 1, 0), (0, 2, 0), (1, 1, 180), (1, 2, 190)], known)
        self.assertEqual(0.0, sum(application.cores.total() for application in series.applications))
        self.assertEqual({"CPU time of processes": 2}, dict(+result.dropped))

    def test_a_process_has_figures_for_the_ticks_that_it_lived(self):
        series, _ = self.made(
            [(1, 1, 0), (2, 1, 10)], {1: (1, facts(9, start_clk=100_050))}, {1: 3}
        )
        process = series.by_identity[1]
        self.assertEqual([0.0, 0.1, None, None], self.cores(process))
        self.assertEqual("·SS··", process.states)
        np.testing.assert_array_equal([NAN, 2, 2, NAN, NAN], process.thread_count.values)
        self.assertFalse(process.is_alive)

    def test_a_reused_number_leads_to_who_has_it(self):
        known = {1: (0, facts(9, name="tern")), 2: (2, facts(9, name="auk", start_clk=100_150))}
        series, _ = self.made([(0, 1, 5), (2, 2, 3)], known, {1: 2})
        first, second = series.by_identity[1], series.by_identity[2]
        self.assertEqual(
            ("tern", "auk", False, True), (first.name, second.name, first.is_alive, second.is_alive)
        )
        self.assertEqual({"tern", "auk"}, {application.name for application in series.applications})

    def test_waiting_is_that_of_all_watched_threads_everywhere(self):
        threads = [(row, 1, tid, 0.2 * row, 0.3 * row) for row in range(1, 5) for tid in (9, 10)]
        series, _ = self.made(
            [(row, 1, 40 * row) for row in range(5)], {1: (0, facts(9))}, threads=threads
        )
        process = series.by_identity[1]
        np.testing.assert_allclose([0, 0.6, 0.6, 0.6], process.waiting.values)
        np.testing.assert_allclose(process.waiting.values, process.application.waiting.values)
        # a thread counts for the time for which it was watched, which is not all of the capture
        (first, _) = process.threads
        self.assertTrue(np.isnan(first.cores.values[0]))
        self.assertAlmostEqual(0.2, first.cores.mean())

    def test_what_a_thread_did_unread_is_not_of_the_interval_in_which_it_is_read_again(self):
        threads = [
            (0, 1, 9, 0.0, 0.0, "gull"),
            (1, 1, 9, 0.3, 0.0),
            (3, 1, 9, 2.0, 0.9, "gull"),
            (4, 1, 9, 2.4, 0.9),
        ]
        series, _ = self.made(
            [(row, 1, 40 * row) for row in range(5)], {1: (0, facts(9))}, threads=threads
        )
        (thread,) = series.by_identity[1].threads
        np.testing.assert_allclose([0.3, 0.0, np.nan, 0.4], thread.cores.values)
        np.testing.assert_allclose([0.0, 0.0, np.nan, 0.0], thread.waiting.values)

    def test_families_are_tied_together(self):
        known = {1: (0, facts(8, ppid=1)), 2: (0, facts(9, ppid=8)), 3: (0, facts(10, ppid=9))}
        series, _ = self.made([], known)
        young = series.by_identity[3]
        self.assertEqual([9, 8], [ancestor.pid for ancestor in young.ancestors])
        self.assertEqual([young], series.by_identity[2].children)


class Devices(unittest.TestCase):
    def finished(self, ticks, on, **inventory):
        collected = DeviceCollector()
        usual = dict.fromkeys(
            (
                "disks",
                "links",
                "queues",
                "sensors",
                "throttles",
                "graphics",
                "groups",
                "graphics_use",
                "supplies",
            ),
            (),
        )
        for row, tick in enumerate(ticks):
            usual |= {"tcp": {}, "interrupts": {}, "after_s": at_once}
            collected.add(row, SimpleNamespace(**{**usual, **tick}))
        about = SimpleNamespace(**{"disks": [], "links": [], "sensors": [], **inventory})
        return collected.finish(about, {}, [], impossible(on))

    def test_a_disk(self):
        on = TimeLine(np.array([0.0, 2.0, 3.0]))
        ticks = [
            {"disks": [DiskSample("sda", reads, sectors, read_ms, 0, 0, 0, 1, busy, queued)]}
            for reads, sectors, read_ms, busy, queued in (
                (100, 2000, 50, 75, 80),
                (150, 4000, 550, 1075, 2080),
                (150, 4000, 550, 1075, 2080),
            )
        ]
        about = [Disk("sda", disks_below=[]), Disk("dm-0", disks_below=["sda"])]
        (item,) = self.finished(ticks, on, disks=about).disks
        self.assertEqual(
            (512_000, 0.5, 1.0, 0.01, 25),
            (
                item.read_bytes_per_s.values[0],
                item.busy.values[0],
                item.queue.values[0],
                item.latency_s.values[0],
                item.requests_per_s.values[0],
            ),
        )
        self.assertTrue(item.is_physical and np.isnan(item.latency_s.values[1]))

    def test_a_links_fuller_direction_counts(self):
        ticks = [
            {"links": [LinkSample("enp3s0", *(0 for _ in range(9)))]},
            {
                "links": [
                    LinkSample(
                        "enp3s0",
                        received_bytes=12_500_000,
                        received_packets=9,
                        receive_errors=1,
                        receive_drops=2,
                        sent_bytes=1_000_000,
                        sent_packets=9,
                        send_errors=3,
                        send_drops=4,
                        collisions=5,
                    )
                ]
            },
        ]
        about = [Link("enp3s0", speed_bits_per_s=1_000_000_000)]
        (item,) = self.finished(ticks, line(1), links=about).links
        self.assertAlmostEqual(0.1, item.used.values[0])
        self.assertEqual((9, 6), (item.errors_per_s.total(), item.drops_per_s.total()))
        (unknown,) = self.finished(ticks, line(1), links=[Link("enp3s0")]).links
        self.assertIsNone(unknown.used)


class Sockets(unittest.TestCase):
    def collected(self, introduced, samples=(), owners=(), rows=4):
        socket_collector = SocketCollector()
        for number, about in introduced.items():
            socket_collector.introduce(number, about)
        for row in range(rows + 1):
            mine = [
                SocketSample(item, "established", 0, 0, sent, 10, 0)
                for at, item, sent in samples
                if at == row
            ]
            details = [SimpleNamespace(process=item, sockets=[inode]) for item, inode in owners]
            tick = SimpleNamespace(sockets=mine, sockets_ended=[], details=details, after_s=at_once)
            socket_collector.add(row, tick)
        return socket_collector.finish(line(rows))

    def test_only_what_moved_during_the_capture_counts(self):
        ends = {number: ("172.16.0.14", 40000 + number, "172.16.0.9", 443) for number in (0, 1)}
        introduced = {end: SocketFacts("tcp", 4, *ends[end], inode=70 + end) for end in ends}
        old, new = self.collected(
            introduced,
            ((0, 0, 1000), (1, 0, 1600), (2, 1, 300), (3, 1, 350)),
            ((4, 70), (5, 71), (6, 71)),
        )
        grouping = Grouping(None)
        for identity in (4, 5, 6):
            grouping.add(identity, facts(identity))
        # the first was there before; the second was made while it was sampled
        self.assertEqual((600, 350), (old.sent_bytes, new.sent_bytes))
        self.assertEqual(([4], [5, 6]), (old.owners, new.owners))
        sent, _ = network_use([old, new], grouping, line(4))
        moved = [sent[:, grouping.application_of[item]].sum() for item in (4, 5, 6)]
        self.assertEqual([600.0, 175.0, 175.0], moved)

    def test_what_moves_nothing_is_told_as_if_it_was_read_at_each_tick(self):
        """The short way for many thousands of them says the same as the long one."""
        told = []
        for rows in (1, 4):
            collector = SocketCollector()
            for number in (0, 1):
                about = SocketFacts("tcp", 4, "172.16.0.14", 40000 + number, "172.16.0.9", 443)
                collector.introduce(number, about)
            for row in range(rows):
                mine = [
                    SocketSample(0, "established", 5, 0, 1000, 10, 0, 77, 3, 40, 0, None),
                    SocketSample(1, "established", 0, 0, 0, 0, 0),
                ]
                tick = SimpleNamespace(sockets=mine, sockets_ended=[], details=[], after_s=at_once)
                collector.add(row, tick)
            told.append(collector.finish(line(4)))
        for short, long in zip(*told, strict=True):
            for name in (field.name for field in dataclasses.fields(short)):
                values = [getattr(each, name) for each in (short, long)]
                if name.endswith("_per_s"):
                    values = [list(rate.values) for rate in values]
                with self.subTest(name):
                    self.assertEqual(*values)

    def test_which_ends_can_be_reached_from_elsewhere(self):
        cases = (
            ("tcp", "127.0.0.1", True),
            ("tcp", "::1", True),
            ("tcp", "::ffff:127.0.0.9", True),
            ("tcp", "0.0.0.0", False),
            ("udp", "::", False),
            ("tcp", "not an address", False),
            ("unix", "/run/tern", True),
        )
        introduced = {
            number: SocketFacts(protocol, 4, address, 80)
            for number, (protocol, address, _) in enumerate(cases)
        }
        for item, (_, address, expected) in zip(self.collected(introduced), cases, strict=True):
            with self.subTest(address):
                self.assertEqual(expected, item.is_loopback)


def ended(process, parent, counted_s=0.0, run_s=0.0, name="x", read=0):
    return ExitSum(
        process, parent, name, 0, 3, round(run_s * 1e9), round(counted_s * 1e6), 0, 0, 0, read, 0
    )


class ReapedBytes(unittest.TestCase):
    """The kernel adds the bytes of a child to those of who waits for it (0 is the parent of 1)."""

    def own(self, growth, whole, *, row=2, waiters=(0,), parent_ended=None):
        grouping = Grouping(None)
        grouping.add(2, facts(5, executable="/opt/shell"))
        grouping.add(0, facts(10, ppid=5, executable="/opt/a"))
        grouping.add(1, facts(20, ppid=10, executable="/opt/b"))
        gone = {1: row} | ({0: parent_ended} if parent_ended else {})
        ended_then = SimpleNamespace(ended_row=gone)
        growths = {item: np.array(growth, dtype=float) for item in (0, 2)}
        result = without_reaped(growths, {1: whole}, waiters, ended_then, grouping)
        return {item: list(values) for item, values in result.items()}

    def test_what_the_child_moved_is_its_own(self):
        for case, growth, whole, wanted in (
            ("all of it", [0, 600, 0], 600, [0, 0, 0]),
            ("with bytes of its own before", [50, 600, 0], 600, [50, 0, 0]),
            ("with what the child moved unseen", [0, 700, 0], 600, [0, 100, 0]),
            ("noticed one tick later", [50, 0, 600], 600, [50, 0, 0]),
        ):
            with self.subTest(case):
                self.assertEqual({0: wanted}, self.own(growth, whole))

    def test_who_did_not_wait_keeps_its_own(self):
        self.assertEqual({}, self.own([0, 600, 0], 600, waiters=()))

    def test_who_ends_first_leaves_it_to_the_next_ancestor(self):
        result = self.own([0, 600, 0], 600, waiters=(0, 2), parent_ended=1)
        self.assertEqual({2: [0, 0, 0]}, result)

    def test_what_had_moved_by_the_end_is_told_by_the_kernels_record(self):
        last = {1: sample(1, read_bytes=300), 0: sample(0)}
        seen = SimpleNamespace(exits=[(2, ended(1, 0, read=450))], last=last, ended_row={1: 2})
        self.assertEqual({1: 450.0}, whole_bytes(seen, "read_bytes"))


class ShortLived(unittest.TestCase):
    """One parent (identity 0) and children of whom something was not seen."""

    def late(self, children=(), exits=(), last=None, ended_row=None):
        grouping = Grouping(None)
        grouping.add(0, facts(10, executable="/opt/a"))
        grouping.add(1, facts(20, ppid=10, executable="/opt/b"))
        seen = SimpleNamespace(exits=list(exits), last=last or {}, ended_row=ended_row or {})
        late = late_use([ChildTime(*child) for child in children], seen, grouping, 100, line(3))
        parent = grouping.application_of[0]
        short = late.short_lived_cores.get(parent, np.zeros(3))
        return late, short, grouping.application_of[1]

    def test_children_that_were_never_seen_come_from_the_parents_counter(self):
        _, short, _ = self.late([(1, 0, 0.6), (2, 0, 0.2)])
        self.assertEqual([0.0, 0.6, 0.2], [round(item, 6) for item in short])

    def test_what_was_seen_of_a_child_is_not_counted_twice(self):
        _, short, _ = self.late([(2, 0, 0.5)], last={1: sample(1, 45)}, ended_row={1: 3})
        self.assertAlmostEqual(0.05, short.sum())

    def test_children_that_nobody_waits_for_come_from_their_own_records(self):
        late, short, _ = self.late(exits=[(2, ended(None, 0, counted_s=0.4, read=4096))])
        self.assertAlmostEqual(0.4, short[1])
        self.assertEqual({"x": 3}, late.programs[0])
        self.assertEqual(4096, late.read_bytes_per_s[0][1])

    def test_who_waits_for_children_has_their_bytes_among_its_own(self):
        last = {0: sample(0, read_bytes=9000)}
        exits = [(2, ended(None, 0, counted_s=0.4, read=4096))]
        late, _, _ = self.late([(1, 0, 0.4)], exits, last)
        self.assertEqual(0.0, late.read_bytes_per_s.get(0, np.zeros(3)).sum())

    def test_of_both_signs_the_greater_counts_and_not_their_sum(self):
        _, short, _ = self.late([(1, 0, 0.5)], [(2, ended(None, 0, counted_s=0.4))])
        self.assertAlmostEqual(0.5, short.sum())
        # the parent noticed one tick later
        _, short, _ = self.late([(2, 0, 0.5)], [(2, ended(None, 0, counted_s=0.4))])
        self.assertAlmostEqual(0.5, short.sum())

    def test_the_rest_of_a_process_that_was_seen_is_its_own(self):
        late, short, child = self.late(
            [(2, 0, 1.0)], [(3, ended(1, None, run_s=0.9))], {1: sample(1, 70)}, {1: 3}
        )
        self.assertAlmostEqual(0.2, late.own_cores[child][2])
        self.assertAlmostEqual(0.1, short.sum())

    def test_orphans_are_unclaimed_and_what_ended_before_the_first_tick_is_past(self):
        late, short, _ = self.late(
            exits=[(1, ended(None, None, counted_s=0.3)), (0, ended(None, 0, counted_s=9.0))]
        )
        self.assertAlmostEqual(0.3, late.unclaimed_cores[0])
        self.assertEqual(0.0, short.sum())


class Waiting(unittest.TestCase):
    def test_what_a_process_waits_for(self):
        for state, function, kind in (
            ("D", "io_schedule", "storage"),
            ("D", "jbd2_log_wait_commit", "storage"),
            ("D", "folio_wait_bit_common", "pages"),
            ("D", "do_swap_page", "pages"),
            ("D", "__mutex_lock.constprop.0", "lock"),
            ("D", "rwsem_down_write_slowpath", "lock"),
            ("D", "rpc_wait_bit_killable", "storage"),
            ("D", "vfork_done", "other"),
            ("D", None, "other"),
        ):
            with self.subTest(function):
                self.assertEqual(kind, WAIT_KINDS[wait_code(state, function)])
        self.assertEqual(NOT_WAITING, wait_code("S", "do_epoll_wait"))


class Memory(unittest.TestCase):
    WORDS = (
        "AnonPages",
        "Shmem",
        "Cached",
        "Buffers",
        "SwapCached",
        "Unevictable",
        "Active(anon)",
        "Inactive(anon)",
        "Dirty",
        "Writeback",
        "KReclaimable",
        "SUnreclaim",
        "KernelStack",
        "PageTables",
        "MemFree",
        "Zswap",
        "Hugetlb",
    )

    def parts(self, memory, zram=0.0):
        on = TimeLine(np.zeros(1))
        machine = SimpleNamespace(
            line=on,
            zram_bytes=level(zram, on),
            memory_bytes=lambda word: level(float(memory.get(word, NAN)), on),
        )
        return {name: float(held.values[0]) for name, held in memory_breakdown(machine).items()}

    @given(st.lists(st.integers(0, 1 << 30), min_size=17, max_size=17), st.integers(0, 1 << 24))
    def test_the_parts_add_up_whatever_the_kernel_says(self, amounts, zram):
        memory = {**dict(zip(self.WORDS, amounts, strict=True)), "MemTotal": 1 << 36}
        parts = self.parts(memory, float(zram))
        self.assertTrue(all(held >= 0 for held in parts.values()))
        self.assertAlmostEqual(1 << 36, sum(parts.values()), delta=16)
        self.assertGreaterEqual(parts[UNNAMED], 0)

    def test_locked_memory_is_taken_out_of_whose_it_is(self):
        memory = {
            "MemTotal": 1000,
            "AnonPages": 300,
            "Shmem": 50,
            "Cached": 250,
            "Unevictable": 60,
            "Active(anon)": 200,
            "Inactive(anon)": 110,
            "Dirty": 5,
            "MemFree": 400,
        }
        parts = self.parts(memory, NAN)
        # 40 of the locked 60 are missing on the lists of programs, 20 are of files
        self.assertEqual(
            (260, 60, 175, 5),
            (
                parts["programs"],
                parts["locked"],
                parts["file cache"],
                parts["file cache, not written yet"],
            ),
        )


class Asked(InFolder):
    def test_what_others_did_for_the_sampler_is_its_own(self):
        path = self.sample
        lines = [json.loads(line) for line in gzip.decompress(path.read_bytes()).splitlines()]
        ids = {line["facts"]["name"]: line for line in lines if line.get("kind") == "process"}
        asked, sampler = ids["nestcam-index"], ids["mail-lantern"]["facts"]
        lines[0]["observer"] = {key: sampler[key] for key in ("pid", "start_clk")}
        before = self.used(path, lines)
        first = next(line for line in lines if line.get("kind") == "survey")
        first["asked"] = {str(asked["id"]): 0.3, "99999": 5.0}
        after = self.used(path, lines)
        change = {name: round(after[name] - before[name], 3) for name in before}
        self.assertEqual(
            {"nestcam-index": -0.3, "mail-lantern": 0.3},
            {name: value for name, value in change.items() if value},
        )

    def test_what_cannot_have_been_asked_moves_nothing(self):
        path = self.sample
        lines = [json.loads(line) for line in gzip.decompress(path.read_bytes()).splitlines()]
        ids = {line["facts"]["name"]: line for line in lines if line.get("kind") == "process"}
        asked, sampler = ids["nestcam-index"]["id"], ids["mail-lantern"]["facts"]
        surveys = [line for line in lines if line.get("kind") == "survey"]
        before = self.used(path, lines)
        # nobody sampled from within, so there is nobody to hand it to
        surveys[0]["asked"] = {str(asked): 0.3}
        self.assertEqual(before, self.used(path, lines))
        lines[0]["observer"] = {key: sampler[key] for key in ("pid", "start_clk")}
        del surveys[0]["asked"]
        before = self.used(path, lines)
        for place, spent_s in ((-1, 0.3), (0, -5.0), (0, 0.0)):
            surveys[place]["asked"] = {str(asked): spent_s}
            with self.subTest(place=place, spent_s=spent_s):
                self.assertEqual(before, self.used(path, lines))
            del surveys[place]["asked"]
        # more than it used is no more than it used
        surveys[0]["asked"] = {str(asked): 1e9}
        after = self.used(path, lines)
        self.assertAlmostEqual(sum(before.values()), sum(after.values()), places=6)
        self.assertGreaterEqual(min(after.values()), 0.0)
        self.assertLess(after["nestcam-index"], before["nestcam-index"])

    def used(self, path, lines):
        path.write_bytes(
            gzip.compress(b"".join(json.dumps(line).encode() + b"\n" for line in lines))
        )
        applications = judge(path).series.applications
        return {application.name: float(application.cores.total()) for application in applications}


class Quotas(unittest.TestCase):
    def test_an_interval_that_was_not_read_is_not_one_without_a_limit(self):
        on = line(4)
        periods, limited = rate([np.nan, 0.0, 10.0, 10.0], on), rate([np.nan, 0.0, 10.0, 9.0], on)
        share = (limited / periods).where(periods, 0.0).known_with(periods)
        self.assertTrue(np.isnan(share.values[0]))
        self.assertEqual([0.0, 1.0, 0.9], share.values[1:].tolist())
