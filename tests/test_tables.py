"""Tables and curves over a capture: what they count, checked against another way of counting."""

import json
import unittest
from collections import Counter

import numpy as np

from dunmist.captures import CaptureReader
from dunmist.cli.judging import load
from dunmist.reports.document import Table
from dunmist.reports.text import document_text
from dunmist.reports.writing import Document
from dunmist.sampling import Event, Process, Tick
from dunmist.series.curves import curve, peaks
from dunmist.series.one_process import load_process
from dunmist.series.tables import TOPICS, tree_table
from dunmist.simulation import load_scenario
from tests.program import InFolder, capture_model, run


class Curves(unittest.TestCase):
    def test_a_curve_is_the_mean_of_equal_stretches(self):
        self.assertEqual([0.5, 2.5], curve(np.array([0.0, 1.0, 2.0, 3.0]), 2))
        self.assertEqual([1.0, 3.0], peaks(np.array([0.0, 1.0, 2.0, 3.0]), 2))
        self.assertEqual([1.0, 2.0], curve(np.array([1.0, 2.0]), 12))
        self.assertEqual([None, 4.0], curve(np.array([np.nan, np.nan, 4.0, np.nan]), 2))
        for points in range(1, 9):
            values = np.arange(8.0)
            self.assertAlmostEqual(
                values.mean(),
                np.average(curve(values, points), weights=[len(one) for one in
                                                           np.array_split(values, points)]),
            )  # fmt: skip


class Restarting(InFolder):
    """A service that dies and is started again: identities come and go."""

    def setUp(self):
        super().setUp()
        self.path = capture_model(load_scenario("restless-mast"), self.folder / "x.gz", 20.0)
        with CaptureReader(self.path) as reader:
            self.lines = list(reader.lines())
        self.series = load(self.path)

    def test_starts_and_ends_are_told_by_name_and_moment(self):
        frame = dict(TOPICS["timeline"])["events"](self.series)
        at_s = {line.n: line.at_s for line in self.lines if isinstance(line, Tick)}
        started = Counter(
            round(at_s[line.tick], 3) for line in self.lines
            if isinstance(line, Process) and line.tick > 0
        )  # fmt: skip
        ended = Counter()
        for line in self.lines:
            if isinstance(line, Event) and line.what == "exit":
                ended[round(at_s[line.tick], 3)] += len(line.processes)
        for what, counted in (("start", started), ("exit", ended)):
            rows = frame[frame["what"] == what]
            self.assertEqual(dict(counted), dict(zip(rows["at_s"], rows["count"], strict=True)))
            self.assertTrue(rows["names"].str.contains("mast-relay").any())
        self.assertTrue(frame["at_s"].is_monotonic_increasing)

    def test_one_process_is_there_from_its_start_to_its_end(self):
        processes = self.series.processes
        identity = next(
            one for one, row in processes.first_tick.items()
            if row > 0 and one in processes.ended_tick
        )  # fmt: skip
        over = load_process(self.path, identity)
        first, last = processes.first_tick[identity], processes.ended_tick[identity]
        self.assertEqual("·" * first, over.states[:first])
        self.assertNotIn("·", over.states[first:last])
        self.assertEqual(set("·"), set(over.states[last:]))
        self.assertTrue(np.isnan(over.rss_bytes[:first]).all())
        self.assertTrue(np.isnan(over.rss_bytes[last:]).all())

    def test_the_tree_has_each_living_process_once(self):
        living = {
            self.series.processes.grouping.facts(one).pid
            for one in self.series.processes.last
            if one not in self.series.processes.ended_tick
        }
        frame = tree_table(self.series)
        self.assertEqual(sorted(living), sorted(frame["pid"]))
        tops = frame[frame["depth"] == 0]
        self.assertAlmostEqual(frame["cores_mean"].sum(), tops["family_cores"].sum(), places=6)
        self.assertAlmostEqual(frame["private_bytes"].sum(), tops["family_bytes"].sum(), places=0)


class Adding(InFolder):
    def setUp(self):
        super().setUp()
        self.series = load(self.sample)

    def table(self, topic, name):
        return dict(TOPICS[topic])[name](self.series)

    def test_use_by_processor_adds_up_to_use_by_application(self):
        used = self.series.processes.processor_cpu_s.sum(axis=0)
        interval_s = self.series.machine.interval_s[:, None]
        expected = (self.series.processes.cores * interval_s).sum(axis=0)
        np.testing.assert_allclose(used, expected, atol=1e-6)
        frame = self.table("cores", "logical processors")
        self.assertTrue((frame["busiest_cores"] <= frame["busy_mean"] + 0.05).all())
        self.assertEqual(sorted(frame["cpu"]), self.series.machine.numbers)

    def test_holders_have_what_their_processes_have(self):
        holders = self.table("memory", "holders").set_index("application")
        each = json.loads(run("view", "processes", self.sample, "--flat", "--json",
                              folder=self.folder).stdout)["processes"]  # fmt: skip
        for name in ("nestcam-index", "weather-mast"):
            mine = sum(row["private_bytes"] for row in each if row["application"] == name)
            self.assertEqual(mine, holders.loc[name, "private_bytes"])

    def test_curves_of_processes_have_the_mean_of_the_process(self):
        rows = json.loads(run("view", "processes", self.sample, "--each", "--json",
                              folder=self.folder).stdout)["processes"]  # fmt: skip
        for row in rows:
            self.assertAlmostEqual(row["cores_mean"], np.mean(row["cores_curve"]), delta=0.005)
            self.assertLessEqual(row["cores_mean"], row["cores_max"] + 1e-6)

    def test_a_port_without_an_owner_says_what_would_reveal_it(self):
        known = self.table("ports", "sockets")
        self.assertTrue(known[known["pids"].notna()]["unknown_owner"].isna().all())
        path = capture_model(load_scenario("ringing-office"), self.folder / "hidden.gz", 4.0,
                             without=["proc/*/fd/*"])  # fmt: skip
        hidden = dict(TOPICS["ports"])["sockets"](load(path))
        self.assertEqual(len(known), len(hidden))
        self.assertTrue(hidden["pids"].isna().all())
        self.assertTrue(hidden["unknown_owner"].str.contains("administrator|namespace").all())


class Text(unittest.TestCase):
    def test_a_wide_table_goes_on_below(self):
        columns = [f"column {number}" for number in range(12)]
        table = Table("Wide", columns, [[f"cell {number}" for number in range(12)]])
        from dunmist.reports.document import Section

        text = document_text(Document("x", "calm", [Section("Tables", [table])]))
        self.assertLessEqual(max(map(len, text.splitlines())), 96)
        for place, words in enumerate(zip(columns, table.rows[0], strict=True)):
            for word in words:
                lines = [line for line in text.splitlines() if f"{word} " in f"{line} "]
                # the first column says in each part whose row it is
                self.assertEqual(1 if place else 2, len(lines), word)
