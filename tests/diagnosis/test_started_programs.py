"""What a program starts again and again, by how much of its work it is."""

import unittest
from types import SimpleNamespace

from dunmist.advice.code_work import code_work
from dunmist.applications import Program
from dunmist.diagnosis import thresholds
from dunmist.diagnosis.started_programs import started_evidence, started_programs
from dunmist.series import CodeLocation, CodeUse
from tests.handmade import application, line, process

ON = line(10)


def shell(own_cores, children_cores, unseen_cores=0.0, counts=None):
    """A shell that starts sorters one after the other, each of which is seen."""
    made = application(
        0,
        ON,
        name="bash",
        cores=own_cores + children_cores + unseen_cores,
        short_lived_cores=unseen_cores,
    )
    process(10, made, ON, cores=own_cores, executable="/usr/bin/bash", name="bash")
    for pid in (20, 21):
        child = process(
            pid, made, ON, cores=children_cores / 2, name="sort", executable="/usr/bin/sort"
        )
        child.program, child.started_inside = Program("sort", "sort", False), True
    made.starts_generations = bool(children_cores)
    made.short_lived_programs = {"sort": 2} if counts is None else counts
    return made


class Started(unittest.TestCase):
    def test_what_uses_most_comes_first_and_all_of_it_counts(self):
        started = started_programs(shell(0.1, 0.6, 0.3, {"mktemp": 40, "sort": 2}))
        self.assertEqual((["sort", "mktemp"], 42), (started.names, started.starts))
        self.assertAlmostEqual(0.9, started.share)

    def test_who_starts_nothing_has_none(self):
        self.assertIsNone(started_programs(shell(1.0, 0.0, counts={})))

    def test_a_few_on_the_side_are_no_evidence(self):
        exam = SimpleNamespace(limits=thresholds(), series=SimpleNamespace(duration_s=10.0))
        self.assertEqual([], started_evidence(exam, shell(1.0, 0.0, 0.2)))
        (figure,) = started_evidence(exam, shell(0.1, 0.0, 0.2))
        self.assertEqual(
            ("app-started", 0.2, ["sort"]), (figure.key, figure.value, figure.slots["which"])
        )


class CommonCode(unittest.TestCase):
    def works(self, *locations, of=None):
        use = CodeUse(1000, [CodeLocation(*location) for location in locations], [], [])
        works = code_work(of or shell(0.0, 1.0), use, thresholds())
        return {work.kind and work.kind.key: round(work.share, 2) for work in works}

    LIBC, SORT = ("/usr/lib/libc.so.6", None, 0.5), ("/usr/bin/sort", None, 0.3)

    def test_what_a_program_does_in_the_c_library_is_its_own_work(self):
        self.assertEqual({"sorting": 0.8}, self.works(self.LIBC, self.SORT))

    def test_not_where_its_own_code_is_of_no_known_kind(self):
        self.assertEqual({None: 0.5}, self.works(self.LIBC))
        shares = self.works(self.LIBC, ("/usr/bin/bash", None, 0.4), self.SORT)
        self.assertNotEqual(0.8, shares.get("sorting"))

    def test_nor_the_code_of_other_libraries(self):
        other = ("/usr/lib/libgull.so.1", None, 0.5)
        self.assertEqual({"sorting": 0.3, None: 0.5}, self.works(other, self.SORT))
