"""Tables and curves over a capture: what they count, checked against another way of counting."""

import json
import unittest
from collections import Counter

import numpy as np

from dunmist.captures import CaptureReader
from dunmist.computer import SocketFacts
from dunmist.jobs.judge import judge
from dunmist.reports.document import Document, Section, TextTable
from dunmist.reports.text import document_text
from dunmist.sampling import Event, ProcessLine, Tick
from dunmist.series import SocketSeries
from dunmist.simulation import load_scenario
from dunmist.tables import CORES, EVENTS, FAMILY, HOLDERS, SOCKETS, fill, plain
from dunmist.tables.ports import scope_of
from tests.program import InFolder, capture_model, frame_of, run


class Cells(unittest.TestCase):
    def test_figures_keep_the_digits_that_they_have(self):
        for value, shown in (
            (1_795_772_813.456, 1_795_772_813),
            (0.123456789, 0.123457),
            (12_345.6789, 12_345.7),
            (2.0, 2),
            (float("nan"), None),
            (float("inf"), None),
            (np.float64(1e9 + 7.4), 1e9 + 7),
        ):
            with self.subTest(value):
                self.assertEqual(shown, plain(value))


class Restarting(InFolder):
    """A service that dies and is started again: identities come and go."""

    def setUp(self):
        super().setUp()
        self.path = capture_model(load_scenario("restless-mast"), self.folder / "x.gz", 20.0)
        with CaptureReader(self.path) as reader:
            self.lines = list(reader.lines())
        self.judged = judge(self.path)
        self.series = self.judged.series

    def test_starts_and_ends_are_told_by_name_and_moment(self):
        frame = frame_of(fill(EVENTS, self.judged))
        at_s = {line.n: line.at_s for line in self.lines if isinstance(line, Tick)}
        started = Counter(
            round(at_s[line.tick], 3)
            for line in self.lines
            if isinstance(line, ProcessLine) and line.tick > 0
        )
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
        process = next(
            process
            for process in self.series.processes.values()
            if process.first_row > 0 and not process.is_alive
        )
        self.assertTrue(process.started_inside)
        first, last = process.first_row, process.ended_row
        self.assertEqual("·" * first, process.states[:first])
        self.assertNotIn("·", process.states[first:last])
        self.assertEqual(set("·"), set(process.states[last:]))
        self.assertTrue(np.isnan(process.rss_bytes.values[:first]).all())
        self.assertTrue(np.isnan(process.rss_bytes.values[last:]).all())
        # what it used before its first tick it used in the capture
        self.assertFalse(np.isnan(process.cores.values[first - 1]))

    def test_the_tree_has_each_living_process_once(self):
        frame = frame_of(fill(FAMILY, self.judged))
        self.assertEqual(sorted(self.series.living), sorted(frame["pid"]))
        tops = frame[frame["depth"] == 0]
        self.assertAlmostEqual(frame["cores_mean"].sum(), tops["family_cores"].sum(), places=6)
        self.assertAlmostEqual(frame["private_bytes"].sum(), tops["family_bytes"].sum(), places=0)


class Adding(InFolder):
    def setUp(self):
        super().setUp()
        self.judged = judge(self.sample)
        self.series = self.judged.series

    def table(self, table):
        return frame_of(fill(table, self.judged))

    def test_use_by_processor_adds_up_to_use_by_application(self):
        used = self.series.processor_cpu_s.sum(axis=0)
        expected = [application.own_cores.total() for application in self.series.applications]
        np.testing.assert_allclose(used, expected, atol=1e-6)
        frame = self.table(CORES)
        self.assertTrue((frame["busiest_cores"] <= frame["busy_mean"] + 0.05).all())
        numbers = [processor.number for processor in self.series.machine.processors]
        self.assertEqual(sorted(frame["cpu"]), numbers)

    def test_holders_have_what_their_processes_have(self):
        holders = self.table(HOLDERS).set_index("application")
        each = json.loads(
            run("view", "processes", self.sample, "--flat", "--json", folder=self.folder).stdout
        )["processes"]
        for name in ("nestcam-index", "weather-mast"):
            mine = sum(row["private_bytes"] for row in each if row["application"] == name)
            self.assertEqual(mine, holders.loc[name, "private_bytes"])

    def test_curves_of_processes_have_the_mean_of_the_process(self):
        rows = json.loads(
            run("view", "processes", self.sample, "--each", "--json", folder=self.folder).stdout
        )["processes"]
        for row in rows:
            self.assertAlmostEqual(row["cores_mean"], np.mean(row["cores_curve"]), delta=0.005)
            self.assertLessEqual(row["cores_mean"], row["cores_max"] + 1e-6)

    def test_a_port_without_an_owner_says_what_would_reveal_it(self):
        known = self.table(SOCKETS)
        self.assertTrue(known[known["pids"].notna()]["unknown_owner"].isna().all())
        path = capture_model(
            load_scenario("ringing-office"), self.folder / "hidden.gz", 4.0, without=["proc/*/fd/*"]
        )
        hidden = frame_of(fill(SOCKETS, judge(path)))
        self.assertEqual(len(known), len(hidden))
        self.assertTrue(hidden["pids"].isna().all())
        self.assertTrue(hidden["unknown_owner"].str.contains("administrator|namespace").all())


class Text(unittest.TestCase):
    def test_only_listeners_are_open(self):
        for remote, expected in (
            (None, "open"),
            ("192.168.3.4", "local network"),
            ("fe80::3", "local network"),
            ("203.0.113.7", "internet"),
            ("2001:db8::7", "internet"),
        ):
            with self.subTest(remote):
                facts = SocketFacts("tcp", 4, "10.0.0.2", 4711, remote, 443 if remote else None)
                state = "established" if remote else "listen"
                unknown = [None] * 4
                series = SocketSeries(facts, [], state, False, *unknown, 0, None)
                self.assertEqual(expected, scope_of(series))

    def test_a_wide_table_goes_on_below(self):
        columns = [f"column {number}" for number in range(12)]
        table = TextTable("Wide", columns, [[f"cell {number}" for number in range(12)]])
        text = document_text(Document("x", "calm", [Section("Tables", [table])]))
        self.assertLessEqual(max(map(len, text.splitlines())), 96)
        for index, words in enumerate(zip(columns, table.rows[0], strict=True)):
            for word in words:
                lines = [line for line in text.splitlines() if f"{word} " in f"{line} "]
                # the first column says in each part whose row it is
                self.assertEqual(1 if index else 2, len(lines), word)
