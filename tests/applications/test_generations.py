"""Programs that are started again and again belong to the process that starts them."""

import unittest
from types import SimpleNamespace

from dunmist.applications import Grouping
from dunmist.applications.generations import adopt_generations
from dunmist.computer import ProcessFacts

ROWS = 20


class Generations(unittest.TestCase):
    def adopted(self, starter="worker.py", lives=2, count=8, ended=True):
        """Return the name with all members after ``starter`` started some programs."""
        grouping, first, gone = Grouping(None), {}, {}

        def add(identity, pid, ppid, *words, began=0):
            grouping.add(
                identity,
                ProcessFacts(
                    pid,
                    100 * pid,
                    ppid,
                    pid,
                    words[0].rpartition("/")[2],
                    executable=words[0],
                    command_line=list(words),
                ),
            )
            first[identity] = began

        add(0, 1, 0, "/sbin/init")
        starters = {
            "worker.py": ("/usr/bin/python3", "/opt/worker.py"),
            "bash": ("/usr/bin/bash",),
            "cron": ("/usr/sbin/cron",),
        }
        add(1, 10, 1, *starters[starter])
        for number in range(count):
            began = 1 + number * lives
            # a builder, and a program that the builder starts
            for part, (pid, ppid, program) in enumerate(
                ((100 + number, 10, "/bin/builder"), (200 + number, 100 + number, "/usr/bin/gzip"))
            ):
                identity = 2 + 2 * number + part
                add(identity, pid, ppid, program, began=began)
                if ended:
                    gone[identity] = began + lives
        grouping.order_by_parent()
        lived = SimpleNamespace(first_row=first, ended_row=gone)
        started = adopt_generations(grouping, lived, ROWS)
        members = {group.name: len(group.members) for group in grouping.groups}
        for identity, number in grouping.application_of.items():
            self.assertIn(identity, grouping.groups[number].members)
        return members, {grouping.groups[number].name: names for number, names in started.items()}

    def test_what_churns_belongs_to_the_nearest_that_lasts(self):
        members, started = self.adopted()
        self.assertEqual({"init": 1, "worker.py": 17}, members)
        self.assertEqual({"worker.py": {"builder": 8, "gzip": 8}}, started)
        self.assertEqual({"init": 1, "bash": 17}, self.adopted("bash")[0])

    def test_a_program_of_its_own_stays_one(self):
        for case, arguments in (
            ("a job server only starts it", {"starter": "cron"}),
            ("few", {"count": 3}),
            ("it lives for most of the capture", {"lives": 12, "count": 8}),
            ("it is there at the end", {"ended": False}),
        ):
            with self.subTest(case):
                members, started = self.adopted(**arguments)
                self.assertEqual({}, started)
                self.assertIn("gzip", members)
