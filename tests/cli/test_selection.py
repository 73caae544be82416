"""Choosing rows, columns, processes and steps, on tables and captures that were made by hand."""

import math
import unittest
from itertools import zip_longest
from types import SimpleNamespace

import click

from dunmist.cli.column_words import columns_of
from dunmist.cli.selecting import Selection, select
from dunmist.errors import UnknownName, WrongUsage
from dunmist.jobs.selection import choose_culprit, choose_owner_of, find_process, step_of
from dunmist.tables import Column, Table, filled
from tests.handmade import application, line, process

LINE = line(4)
BIRDS = Table(
    "seen birds",
    "the most first",
    (
        Column("bird", "text", "what it is", answers=("name",)),
        Column("ports", "text", "ports", answers=("port",)),
        Column("unit", "text", "service", answers=("service",)),
        Column("count", "number", "how many", answers=("least",)),
        Column("wet_share", "share", "how many of them swim"),
        Column("curve", "curve", "over the day"),
        Column("moved_bytes_per_s", "bytes/s", "moved", title="moved"),
    ),
    lambda judged: (),
    shown=("bird", "count"),
    order=("count",),
)
ROWS = (
    ("Tern", "80 8080", "tern.service", 3.0, 0.5),
    ("gull", "631", "gull.scope", None, 0.9),
    ("great auk", None, "auk.service", 7.0, 0.1),
)


def bird(*cells):
    names = ("bird", "ports", "unit", "count", "wet_share", "curve", "moved_bytes_per_s")
    return SimpleNamespace(**dict(zip_longest(names, cells)))


def birds():
    return filled(BIRDS, [bird(*row) for row in ROWS])


class Rows(unittest.TestCase):
    def chosen(self, *tables, **wanted):
        result = select(list(tables) or [birds()], Selection(wanted.pop("filters", {}), **wanted))
        return [row["bird"] for table in result for row in table.rows]

    def test_a_table_has_its_own_order_and_unknown_comes_last(self):
        self.assertEqual(["great auk", "Tern", "gull"], self.chosen())

    def test_filters(self):
        for filters, wanted in (
            ({"name": "AUK"}, ["great auk"]),
            ({"name": "t*"}, ["Tern"]),
            ({"name": "u"}, ["great auk", "gull"]),
            ({"name": "*x*"}, []),
            ({"port": "80"}, ["Tern"]),
            ({"port": "8"}, []),
            ({"port": "631"}, ["gull"]),
            ({"service": "tern"}, ["Tern"]),
            ({"service": "*.service"}, ["great auk", "Tern"]),
            ({"service": "ter"}, []),
            ({"least": "7"}, ["great auk"]),
            ({"least": "0"}, ["great auk", "Tern"]),
            ({"name": "u", "least": "1"}, ["great auk"]),
        ):
            with self.subTest(filters):
                self.assertEqual(wanted, self.chosen(filters=filters))

    def test_a_filter_leaves_out_tables_that_cannot_answer(self):
        other = BIRDS._replace(columns=BIRDS.columns[-1:], shown=(), order=())
        tables = [birds(), filled(other, [{"moved_bytes_per_s": 1.0}])]
        self.assertEqual(["Tern"], self.chosen(*tables, filters={"port": "80"}))
        with self.assertRaisesRegex(click.UsageError, "--state does not apply"):
            self.chosen(*tables, filters={"state": "R"})

    def test_sorting(self):
        for sort, wanted in (
            ("wet_share", ["gull", "Tern", "great auk"]),
            ("wet_share:up", ["great auk", "Tern", "gull"]),
            ("bird", ["Tern", "great auk", "gull"]),
            ("bird:down", ["gull", "great auk", "Tern"]),
            ("count", ["great auk", "Tern", "gull"]),
            ("count:up", ["Tern", "great auk", "gull"]),
        ):
            with self.subTest(sort):
                self.assertEqual(wanted, self.chosen(sort=sort))
        # a table of facts has figures and words in one column, a curve is more than a figure
        mixed = filled(BIRDS, [bird(cell) for cell in ("owl", 2, [3.0, None], math.nan, None)])
        self.assertEqual(["owl", [3.0, None], 2], self.chosen(mixed, sort="bird:down")[:3])
        self.assertEqual(["Tern", "gull"], self.chosen(sort="wet_share", limit=2, bottom=True))
        for sort, said in (("wet_shar", "did you mean 'wet_share'"), ("bird:left", "neither up")):
            with self.subTest(sort), self.assertRaisesRegex(click.UsageError, said):
                self.chosen(sort=sort)

    def test_headings_leave_out_what_the_cells_say(self):
        headings = [column.heading for column in BIRDS.columns]
        self.assertEqual(
            ["bird", "ports", "unit", "count", "wet share", "over time", "moved"], headings
        )
        self.assertEqual("seen_birds", BIRDS.key)
        self.assertEqual(
            ["bird", "count"], [shown_column.name for shown_column in BIRDS.shown_columns()]
        )
        columns_of([birds()], ["bird", "curve"])


class Processes(unittest.TestCase):
    def setUp(self):
        tern, gull = application(1, LINE, "tern"), application(2, LINE, "gull")
        self.before, self.now = process(7, tern, LINE, cores=2.0), process(7, gull, LINE, cores=0.1)
        self.twin, self.idle = process(8, gull, LINE, cores=0.5), process(9, tern, LINE)
        every = [self.before, self.now, self.twin, self.idle]
        # the number of the first one was given away again
        living = {7: self.now, 8: self.twin, 9: self.idle}
        series = SimpleNamespace(processes=dict(enumerate(every)), living=living, path="x.gz")
        self.case = SimpleNamespace(application=gull, filled_steps=["wait", "pause"])
        cases = SimpleNamespace(of=lambda item: self.case if item is gull else None)
        culprits = [SimpleNamespace(application=gull)]
        self.judged = SimpleNamespace(
            series=series, cases=cases, diagnosis=SimpleNamespace(culprits=culprits)
        )

    def test_a_number_means_who_has_it_and_a_name_who_did_most(self):
        for what, wanted in (
            ("7", self.now),
            ("gull", self.twin),
            ("GUL", self.twin),
            ("tern", self.idle),
        ):
            with self.subTest(what):
                self.assertIs(wanted, find_process(self.judged, what))
        del self.judged.series.living[7]
        self.assertIs(self.now, find_process(self.judged, "7"))
        for what, said in (("10", "process 10 is not"), ("gulls", "did you mean 'gull'")):
            with self.subTest(what), self.assertRaisesRegex(UnknownName, said):
                find_process(self.judged, what)

    def test_whom_and_which_step(self):
        chosen = choose_culprit(self.judged, 1)
        self.assertEqual(("gull", "pause"), (chosen.application.name, step_of(chosen, "2")))
        self.assertEqual("gull", choose_owner_of(self.judged, 7).application.name)
        for ask, said in (
            (lambda: choose_culprit(self.judged, 2), "has 1 culprit, not 2"),
            (lambda: choose_owner_of(self.judged, 12), "process 12 was not there"),
            (lambda: choose_owner_of(self.judged, 9), "nothing of tern was seen"),
            (lambda: step_of(chosen, "3"), "has 2 steps, not 3"),
        ):
            with self.subTest(said), self.assertRaisesRegex(WrongUsage, said):
                ask()
