"""Rules of findings on figures written down by hand: what is just enough, and just not."""

import unittest
from types import SimpleNamespace

from dunmist.diagnosis import found_machine, found_memory, found_processors
from dunmist.diagnosis.records import ResourceState
from dunmist.diagnosis.strains import Strains
from tests.handmade import GIB, Machine, application, examination, level, line, process, processors
from tests.handmade import rate as rate_on

LINE = line(10)
NOTHING = Strains([])


def kinds(rules, exam, strains=NOTHING):
    """Return the kinds, and whom each is about."""
    found = [finding for rule in rules for finding in rule(exam, strains)]
    return {(one.kind, one.application.name if one.application else None) for one in found}


def machine(busy=0.2, **more):
    return Machine(LINE, processors(LINE, 4, user=busy), **more)


def strained(word, used=0.99):
    return Strains([ResourceState(word, "strained", used, 0.5, [])])


class Processors(unittest.TestCase):
    def found(self, *applications, strains=NOTHING, of=None, processes=(), **devices):
        exam = examination(of or machine(), applications, processes,
                           interrupts=devices.pop("interrupts", {}), **devices)  # fmt: skip
        return kinds(found_processors.RULES, exam, strains)

    def test_who_uses_processors_all_the_time(self):
        for what, wanted, figures in (
            ("more than half of all", {("cpu-hog", "tern")}, {"cores": 2.1}),
            ("less", {("steady-background", "tern")}, {"cores": 1.9}),
            ("a little, always", {("steady-background", "tern")}, {"cores": 0.2}),
            ("less than is worth a word", set(), {"cores": 0.1}),
            ("now and then", set(), {"cores": [2.0, 0.0, 0.0, 0.0, 0.0] * 2}),
            ("gives way to others", {("steady-background", "tern")},
             {"cores": 3.0, "low_priority": 0.9}),
            ("Dunmist itself", set(), {"cores": 3.0, "observer": True}),
            ("the kernel", {("kernel-busy", "tern")}, {"cores": 0.6, "kernel": True}),
            ("the kernel, a little", set(), {"cores": 0.4, "kernel": True}),
        ):  # fmt: skip
            with self.subTest(what):
                self.assertEqual(wanted, self.found(application(1, LINE, "tern", **figures)))

    def test_a_storm_needs_both_forks_and_use(self):
        for forks, cores, wanted in ((50, 0.5, True), (30, 0.5, False), (50, 0.1, False)):
            with self.subTest(forks=forks, cores=cores):
                host = machine()
                host.forks_per_s = rate_on(float(forks), LINE)
                starter = application(1, LINE, "gull", short_lived_cores=cores)
                other = application(2, LINE, "auk", cores=0.1)
                found = self.found(other, starter, of=host)
                self.assertEqual(wanted, ("spawn-storm", "gull") in found)

    def test_many_threads_matter_where_processors_are_short(self):
        for threads, waiting, strains, wanted in (
            (200, 5.0, strained("cpu"), True), (200, 5.0, NOTHING, False),
            (50, 5.0, strained("cpu"), False), (200, 0.2, strained("cpu"), False),
        ):  # fmt: skip
            with self.subTest(threads=threads, waiting=waiting):
                crowd = application(1, LINE, "auk", waiting=waiting)
                many = process(7, crowd, LINE, threads=threads)
                found = self.found(crowd, strains=strains, processes=[many])
                self.assertEqual(wanted, ("thread-swarm", "auk") in found)

    def test_what_is_taken_from_processors(self):
        for what, spent, wanted in (
            ("stolen", {"steal": 0.2}, {("stolen-time", None)}),
            ("a little", {"steal": 0.05}, set()),
            ("interrupts", {"irq": 0.2, "softirq": 0.15}, {("interrupt-storm", None)}),
            ("fewer", {"irq": 0.1, "softirq": 0.1}, set()),
        ):  # fmt: skip
            with self.subTest(what):
                host = Machine(LINE, processors(LINE, 4, **spent))
                self.assertEqual(wanted, self.found(of=host))

    def test_a_low_clock_is_told_only_of_busy_processors_that_are_not_hot(self):
        for clock, busy, strains, wanted in (
            (0.5, 0.9, NOTHING, True), (0.8, 0.9, NOTHING, False), (0.5, 0.3, NOTHING, False),
            (0.5, 0.9, strained("heat"), False),
        ):  # fmt: skip
            with self.subTest(clock=clock, busy=busy):
                host = Machine(LINE, processors(LINE, 4, clock=clock, user=busy))
                host.most_clock_hz = 3e9
                self.assertEqual(
                    wanted, ("low-clock", None) in self.found(of=host, strains=strains)
                )


class Memory(unittest.TestCase):
    def found(self, *applications, strains=NOTHING, of=None):
        exam = examination(of or machine(), applications)
        exam.series.header.inventory = SimpleNamespace(firmware=None)
        return kinds(found_memory.RULES, exam, strains)

    def grown(self, values):
        one = application(1, LINE, "gull")
        one.private_bytes = level(values, LINE)
        # an application that has run for hours
        process(7, one, LINE)
        return one

    def test_who_holds_it(self):
        for held, wanted in ((4.5, {("memory-hog", "tern")}), (3.5, set())):
            with self.subTest(held):
                one = application(1, LINE, "tern", private=held * GIB)
                self.assertEqual(wanted, self.found(one))

    def test_growth_is_no_jump_and_no_start(self):
        steady = [1e8 + 2e6 * tick for tick in range(11)]
        for what, values, wanted in (
            ("steadily", steady, {("memory-leak", "gull")}),
            ("too slowly", [1e8 + 1e5 * tick for tick in range(11)], set()),
            ("at once", [1e8] * 7 + [2e8] * 4, set()),
            ("in the first half only", steady[:5] + [steady[5]] * 6, set()),
            ("up and down", [1e8 + 2e7 * (tick % 2) for tick in range(11)], set()),
        ):
            with self.subTest(what):
                self.assertEqual(wanted, self.found(self.grown(values)))

    def test_too_little_is_told_from_a_limit(self):
        reader = application(1, LINE, "auk", major_faults_per_s=50.0)
        for used, wanted in ((0.95, ("memory-short", None)), (0.4, ("memory-limited", "auk"))):
            with self.subTest(used):
                self.assertIn(wanted, self.found(reader, strains=strained("memory", used)))

    def test_paging_goes_both_ways(self):
        for paging, wanted in (
            ({"pswpin": 900.0, "pswpout": 900.0}, True),
            ({"pswpout": 9000.0, "pswpin": 0.0}, False),
        ):  # fmt: skip
            with self.subTest(paging):
                host = machine(paging=paging)
                host.paging = {word: rate_on(value, LINE) for word, value in paging.items()}
                self.assertEqual(wanted, ("paging-storm", None) in self.found(of=host))


class Computer(unittest.TestCase):
    def test_since_when_and_how_many_tasks(self):
        day_s = 86_400.0
        for what, uptime_s, tasks, wanted in (
            ("just started", 600.0, 100.0, {("recent-restart", None)}),
            ("yesterday", day_s, 100.0, set()),
            ("months ago", 90 * day_s, 100.0, {("long-uptime", None)}),
            ("nearly as many tasks as may be", day_s, 900.0, {("limit-near", None)}),
        ):
            with self.subTest(what):
                host = machine(uptime_s=uptime_s)
                host.tasks = level(tasks, LINE)
                exam = examination(host)
                exam.series.header.inventory = SimpleNamespace(tasks_most=1000)
                exam.series.surveyed.last = None
                self.assertEqual(wanted, kinds(found_machine.RULES, exam))
